package relations

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
)

func value(form event.Form, x float64) replay.Value {
	v := event.Value{Type: &event.Type{Name: "x", Form: form, Size: 8}, State: event.Known, Int: int64(x), Uint: uint64(max(x, 0)), Float: x}
	return replay.Value{Value: v}
}

// Every candidate holds for all that was seen, and can be parsed.
func TestCandidatesAreNotContradicted(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		g := rand.New(rand.NewPCG(seed, 5))
		var o observations
		o.named, o.pairs = map[string]*path{}, map[[2]int]*pair{}
		form := []event.Form{event.Int, event.Uint, event.Float}[g.IntN(3)]
		least, most := math.Inf(1), math.Inf(-1)
		n := leastRange + g.IntN(40)
		for range n {
			x := float64(g.IntN(1 + g.IntN(9)))
			if form == event.Float {
				x /= 4
			}
			least, most = min(least, x), max(most, x)
			o.value("depth", value(form, x), 0, map[int]float64{})
		}
		for _, c := range o.candidates() {
			_, err := question.Parse(c.that)
			require.NoError(t, err, c.that)
			switch {
			case c.that == "depth <= "+text(most, form):
			case c.that == "depth >= "+text(least, form):
			default:
				assert.Fail(t, c.that, "least %v, most %v", least, most)
			}
		}
	}
}

func TestCandidatesOfOtherValues(t *testing.T) {
	t.Parallel()
	var o observations
	o.named, o.pairs = map[string]*path{}, map[[2]int]*pair{}
	pointer := event.Value{Type: &event.Type{Name: "*ring", Form: event.Pointer}, State: event.Known, Nil: true}
	for i := range 30 {
		truth := value(event.Bool, 1)
		o.value("open", truth, 0, map[int]float64{})
		name := replay.Value{Value: event.Value{Type: &event.Type{Name: "string", Form: event.Text}, State: event.Known, Text: []string{"Kelp", "Ness"}[i%2]}}
		o.value("name", name, 0, map[int]float64{})
		o.value("next", replay.Value{Value: pointer}, 0, map[int]float64{})
		o.value("many", value(event.Int, float64(i)), 0, map[int]float64{})
		o.value("unknown", replay.Value{Value: event.Value{State: event.Unrecorded}}, 0, map[int]float64{})
	}
	var all []string
	for _, c := range o.candidates() {
		all = append(all, c.that)
	}
	assert.Equal(t, []string{`name in ["Kelp", "Ness"]`, "next == null", "open == true"}, all, "each value of many was seen once: its bounds are chance")
}
