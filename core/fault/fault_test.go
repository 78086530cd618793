package fault_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// The table is complete and well formed: clients distinguish errors by their codes, commands by
// exit codes.
func TestTheTable(t *testing.T) {
	t.Parallel()
	codes, texts := map[string]bool{}, map[string]bool{}
	form := regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`)
	for _, k := range fault.Kinds() {
		assert.Regexp(t, form, k.Code)
		assert.False(t, codes[k.Code], "%s twice", k.Code)
		assert.False(t, texts[k.Text], "%q twice", k.Text)
		codes[k.Code], texts[k.Text] = true, true
		assert.Same(t, k, fault.ByCode(k.Code))
		for _, text := range []string{k.Text, k.Remedy} {
			assert.NotEmpty(t, text, k.Code)
			assert.False(t, strings.HasSuffix(text, "."), "%s: %q", k.Code, text)
			assert.Equal(t, strings.TrimSpace(text), text)
			assert.NotContains(t, text, "\n")
		}
		assert.Equal(t, k == fault.Internal, k.Status == 500, "%s: 500 is for internal errors", k.Code)
		assert.Equal(t, k == fault.Internal, k.Exit == fault.ExitInternal, k.Code)
		assert.Contains(t, []int{fault.ExitNo, fault.ExitUsage, fault.ExitUnreadable, fault.ExitInternal}, k.Exit, k.Code)
		assert.True(t, k.Status >= 400 && k.Status < 508, k.Code)
	}
	assert.Greater(t, len(codes), 50)
	assert.Nil(t, fault.ByCode("fog"))
}

func TestOf(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		err    error
		kind   *fault.Kind
		remedy string
	}{
		"a kind itself":                 {fault.NoHit, fault.NoHit, fault.NoHit.Remedy},
		"wrapped":                       {fmt.Errorf("a: %w", fmt.Errorf("b: %w", fault.NoThread)), fault.NoThread, fault.NoThread.Remedy},
		"with a remedy of its own":      {fault.NoName.New("look again", "no %s", "fog"), fault.NoName, "look again"},
		"without a remedy":              {fault.NoName.New("", "no fog"), fault.NoName, fault.NoName.Remedy},
		"wrapped, with a remedy":        {fmt.Errorf("a: %w", fault.NoName.New("look again", "no fog")), fault.NoName, "look again"},
		"the innermost counts":          {fmt.Errorf("%w: %w", fault.Unreadable, fault.UnknownKind), fault.UnknownKind, fault.UnknownKind.Remedy},
		"the innermost, of a detail":    {fault.Unreadable.New("outer", "x: %w", fault.NoValue.New("inner", "y")), fault.NoValue, "inner"},
		"no kind":                       {io.EOF, fault.Internal, fault.Internal.Remedy},
		"beside what is no kind":        {errors.Join(io.EOF, fault.Busy), fault.Busy, fault.Busy.Remedy},
		"a context that was cancelled":  {fmt.Errorf("ask: %w", context.Canceled), fault.Cancelled, fault.Cancelled.Remedy},
		"a context whose time is up":    {fmt.Errorf("ask: %w", context.DeadlineExceeded), fault.TimeLimit, fault.TimeLimit.Remedy},
		"a kind beside a dead context":  {fmt.Errorf("%w: %w", fault.NoHit, context.Canceled), fault.NoHit, fault.NoHit.Remedy},
		"an error in the kind's detail": {fault.NoCode.New("", "at %w", io.EOF), fault.NoCode, fault.NoCode.Remedy},
	} {
		kind, remedy := fault.Of(x.err)
		assert.Equal(t, x.kind.Code, kind.Code, name)
		assert.Equal(t, x.remedy, remedy, name)
	}
	detail := fault.NoCode.New("", "at %w", io.EOF)
	require.ErrorIs(t, detail, io.EOF)
	require.ErrorIs(t, detail, fault.NoCode)
	assert.EqualError(t, detail, "at EOF")
}
