package relations

import (
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
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

// A candidate is contradicted by observations exactly if one of the values that were seen contradicts it.
func TestContradictionsAreThoseOfTheValues(t *testing.T) {
	t.Parallel()
	type hit struct{ a, b float64 }
	checked, wrong := 0, 0
	for seed := range uint64(300) {
		g := rand.New(rand.NewPCG(seed, 77))
		form := []event.Form{event.Int, event.Float}[g.IntN(2)]
		random := func(spread int) (list []hit) {
			for range leastRange + g.IntN(30) {
				x := hit{float64(g.IntN(1 + spread)), float64(g.IntN(1 + spread))}
				if seed%3 == 0 {
					x.b = x.a + float64(g.IntN(2))
				}
				list = append(list, x)
			}
			return list
		}
		feed := func(o *observations, list []hit) {
			for _, x := range list {
				o.hit(func(see func(name string, v replay.Value)) {
					see("a", value(form, x.a))
					see("b", value(form, x.b))
				})
			}
		}
		var passing observations
		feed(&passing, random(3))
		candidates := passing.candidates()
		failing := random(4)
		o := observing(candidates)
		feed(&o, failing)
		for _, c := range candidates {
			broken := false
			for _, x := range failing {
				broken = broken || !holds(t, c.that, map[string]float64{"a": x.a, "b": x.b})
			}
			assert.Equal(t, broken, c.isWrong(&o), "seed %d: %s", seed, c.that)
			checked++
			if broken {
				wrong++
			}
		}
	}
	assert.Greater(t, checked, 500)
	assert.Greater(t, wrong, 50)
	assert.Less(t, wrong, checked)
}

// holds evaluates NAME RELATION NAME|NUMBER.
func holds(t *testing.T, that string, values map[string]float64) bool {
	t.Helper()
	parts := strings.Fields(that)
	require.Len(t, parts, 3, that)
	right, ok := values[parts[2]]
	if !ok {
		var err error
		right, err = strconv.ParseFloat(parts[2], 64)
		require.NoError(t, err, that)
	}
	left := values[parts[0]]
	switch parts[1] {
	case "<=":
		return left <= right
	case ">=":
		return left >= right
	case "==":
		return left == right
	}
	require.Fail(t, that)
	return false
}

// Of many hits the last ones are tried, and others that are spread over all before.
func TestTriedHits(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		g := rand.New(rand.NewPCG(seed, 3))
		var hits []event.Moment
		for at := event.Moment(0); len(hits) < g.IntN(400); at += event.Moment(1 + g.IntN(5)) {
			hits = append(hits, at)
		}
		most := 2 + g.IntN(60)
		got := tried(hits, most)
		require.Len(t, got, min(most, len(hits)))
		require.True(t, slices.IsSorted(got))
		require.Len(t, slices.Compact(slices.Clone(got)), len(got), "none twice")
		if len(hits) > most {
			assert.Equal(t, hits[len(hits)-most/2:], got[len(got)-most/2:])
			assert.Equal(t, hits[0], got[0])
			gap := (len(hits) - most/2) / (most - most/2)
			for i := range most - most/2 - 1 {
				from, _ := slices.BinarySearch(hits, got[i])
				to, _ := slices.BinarySearch(hits, got[i+1])
				assert.InDelta(t, gap, to-from, 1)
			}
		}
	}
}
