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
	type embedding struct{ inner }
	bad := "a\x00b"
	for _, v := range []any{"", "Kelp Quay", outer{}, &outer{Raw: []byte(bad), hidden: bad}, outer{Inner: &inner{Names: []string{"x"}, Fields: map[string]string{"a": "b"}}}, []int{1}, map[string][]string{}} {
		assert.NoError(t, Check(v), "%+v", v)
	}
	for _, v := range []any{bad, "\xff", &bad, []string{"", bad}, outer{Inner: &inner{Names: []string{bad}}}, embedding{inner{Names: []string{bad}}}, outer{Inner: &inner{Fields: map[string]string{bad: ""}}}, outer{Inner: &inner{Fields: map[string]string{"": "\xc0"}}}} {
		assert.ErrorIs(t, Check(v), fault.InvalidText, "%+v", v)
	}
}

// Control characters, also those that begin the escape sequences of terminals, are in no text of people; what is stored may have them.
func TestControlCharacters(t *testing.T) {
	t.Parallel()
	for r := rune(1); r < 0x3000; r++ {
		text := "a" + string(r) + "b"
		isControl := r < 0x20 && r != 9 && r != 10 && r != 13 || r >= 0x7f && r < 0xa0
		assert.Equal(t, !isControl, Text(text), "%U", r)
		assert.Equal(t, isControl, Check([]string{text}) != nil, "%U", r)
		assert.NoError(t, CheckStorable([]string{text}), "%U", r)
	}
	assert.ErrorIs(t, CheckStorable("a\x00"), fault.InvalidText)
}
