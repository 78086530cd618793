package wellformed

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"wraithology/core/fault"
)

func TestCheck(t *testing.T) {
	t.Parallel()
	type inner struct {
		Names  []string
		Fields map[string]string
	}
	type outer struct {
		Raw    []byte
		Inner  *inner
		hidden string
	}
	bad := "a\x00b"
	for _, v := range []any{"", "Kelp Quay", outer{}, &outer{Raw: []byte(bad), hidden: bad}, outer{Inner: &inner{Names: []string{"x"}, Fields: map[string]string{"a": "b"}}}, []int{1}, map[string][]string{}} {
		assert.NoError(t, Check(v), "%+v", v)
	}
	for _, v := range []any{bad, "\xff", &bad, []string{"", bad}, outer{Inner: &inner{Names: []string{bad}}}, outer{Inner: &inner{Fields: map[string]string{bad: ""}}}, outer{Inner: &inner{Fields: map[string]string{"": "\xc0"}}}} {
		assert.ErrorIs(t, Check(v), fault.InvalidText, "%+v", v)
	}
}
