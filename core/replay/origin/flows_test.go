package origin

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"wraithology/core/event"
)

// A literal is an origin only of the value that it has.
func TestLiteralsOfOtherValues(t *testing.T) {
	t.Parallel()
	of := func(form event.Form, size uint64, v event.Value) event.Value {
		v.Type, v.State = &event.Type{Form: form, Size: size}, event.Known
		return v
	}
	whole := func(n int64) event.Value { return of(event.Int, 8, event.Value{Int: n}) }
	real := func(f float64) event.Value { return of(event.Float, 8, event.Value{Float: f}) }
	text := func(s string) event.Value { return of(event.Text, 16, event.Value{Text: s}) }
	truth := func(n uint64) event.Value { return of(event.Bool, 1, event.Value{Uint: n}) }
	for _, x := range []struct {
		literal string
		value   event.Value
		other   bool
	}{
		{"4", whole(4), false}, {"-4", whole(-4), false}, {"4", whole(-4), true}, {"0x10", whole(16), false}, {"1_000", whole(1000), false}, {"'a'", whole(97), false}, {"'b'", whole(97), true},
		{"1e3", whole(1000), false}, {"1.5", whole(1), true}, {"18446744073709551615", of(event.Uint, 8, event.Value{Uint: 1<<64 - 1}), false}, {"18446744073709551615", whole(-1), true},
		{"4.1", real(4.1), false}, {"4", real(4), false}, {"3.6", real(4.1), true}, {"-0.5", real(-0.5), false}, {"0.1", of(event.Float, 4, event.Value{Float: float64(float32(0.1))}), false}, {"0.1", real(float64(float32(0.1))), true},
		{`"Kelp"`, text("Kelp"), false}, {"`Kelp`", text("Kelp"), false}, {`"a\n"`, text("a\n"), false}, {`"Osprey"`, text("Kelp"), true}, {"4", text("4"), true},
		{"true", truth(1), false}, {"false", truth(1), true}, {"1", truth(1), true},
		// What is not a literal may be of any value, and so may a value that is not known or not whole.
		{"deepest", real(4.1), false}, {"", whole(0), false}, {"-", whole(0), false}, {"4 + 1", whole(7), false}, {"1.2.3", real(1), false}, {`"cut`, text("x"), false},
		{"4", event.Value{State: event.Unassigned, Type: &event.Type{Form: event.Int}}, false}, {`"Osprey"`, of(event.Text, 16, event.Value{Text: "Kelp", Whole: 300}), false},
		{"4", of(event.Struct, 8, event.Value{}), false},
	} {
		assert.Equal(t, x.other, contradicts(x.literal, x.value), "%s as %+v", x.literal, x.value)
	}
}
