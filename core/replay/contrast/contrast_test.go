package contrast

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// choose is the binomial coefficient, exactly.
func choose(n, k int) *big.Rat {
	return new(big.Rat).SetInt(new(big.Int).Binomial(int64(n), int64(k)))
}

// The exact test is the sum of the exact probabilities of all tables that are at most as likely.
func TestFisherAgainstExactSums(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 1))
	for range 300 {
		n, m := 1+r.IntN(30), 1+r.IntN(60)
		a, b := r.IntN(n+1), r.IntN(m+1)
		of := func(x int) *big.Rat {
			p := new(big.Rat).Mul(choose(n, x), choose(m, a+b-x))
			return p.Quo(p, choose(n+m, a+b))
		}
		want := new(big.Rat)
		for x := max(0, a+b-m); x <= min(a+b, n); x++ {
			if p := of(x); p.Cmp(of(a)) <= 0 {
				want.Add(want, p)
			}
		}
		exact, _ := want.Float64()
		require.InEpsilon(t, exact, fisher(a, n, b, m), 1e-6, "%d of %d, %d of %d", a, n, b, m)
	}
	assert.Less(t, fisher(5000, 10_000, 1000, 90_000), 1e-300, "many things take no time")
}

// The rank test is about as sure as a count over random permutations, and its threshold is one that separates best.
func TestRankAgainstPermutations(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 2))
		n, m := 8+r.IntN(20), 8+r.IntN(20)
		list := make([]measure, n+m)
		for i := range list {
			list[i] = measure{float64(r.IntN(30)), i < n}
			if i < n {
				list[i].x += float64(r.IntN(12))
			}
		}
		u := func(list []measure) (u float64) {
			for _, a := range list {
				for _, b := range list {
					if a.has && !b.has {
						switch {
						case a.x > b.x:
							u++
						case a.x == b.x:
							u += 0.5
						}
					}
				}
			}
			return u
		}
		mean := float64(n*m) / 2
		observed := math.Abs(u(list) - mean)
		shuffled := append([]measure(nil), list...)
		const times = 1500
		extreme := 0
		for range times {
			r.Shuffle(len(shuffled), func(i, k int) { shuffled[i].has, shuffled[k].has = shuffled[k].has, shuffled[i].has })
			if math.Abs(u(shuffled)-mean) >= observed-1e-9 {
				extreme++
			}
		}
		wantEffect := 2*u(list)/float64(n*m) - 1
		p, effect, threshold := rank(append([]measure(nil), list...))
		assert.InDelta(t, float64(extreme)/times, p, 0.05, "seed %d", seed)
		assert.InDelta(t, wantEffect, effect, 1e-9)
		split := func(at float64) float64 {
			a, b := 0.0, 0.0
			for _, v := range list {
				if v.x >= at {
					if v.has {
						a += 1 / float64(n)
					} else {
						b += 1 / float64(m)
					}
				}
			}
			return math.Abs(a - b)
		}
		for _, v := range list {
			assert.LessOrEqual(t, split(v.x), split(threshold)+1e-9)
		}
	}
	p, effect, _ := rank([]measure{{1, true}, {1, false}})
	assert.Equal(t, 1.0, p)
	assert.Zero(t, effect)
}

// What was planted is found, first of all, and what is independent of the property is hardly ever listed.
func TestPlantedDifferences(t *testing.T) {
	t.Parallel()
	chance, tested := 0, 0
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 3))
		parts := []*features{newFeatures(), newFeatures(), newFeatures()}
		for i := range 1500 {
			f := parts[i%len(parts)]
			has := r.IntN(6) == 0
			f.next(has)
			quay := "Kelp"
			if has == (r.IntN(10) > 0) {
				quay = "Osprey"
			}
			f.value("quay", event.Value{Type: &event.Type{Form: event.Text}, State: event.Known, Text: quay})
			f.value("order", event.Value{Type: &event.Type{Form: event.Text}, State: event.Known, Text: fmt.Sprint("o", seed, i)})
			f.set(key{what: "operation", name: "always"})
			if !has || r.IntN(20) == 0 {
				f.set(key{what: "operation", name: "assign"})
				f.set(key{what: "operation", name: "assign"})
			}
			slow := 0.0
			if has {
				slow = 40
			}
			f.measure("duration", "read", slow+r.Float64()*50)
			f.measure("duration", "read", 0) // the longest one counts
			for k := range 20 {
				f.value(fmt.Sprint("chance", k), event.Value{Type: &event.Type{Form: event.Int}, State: event.Known, Int: int64(r.IntN(5))})
			}
		}
		f := newFeatures()
		for _, p := range parts {
			f.merge(p)
		}
		list := f.differences([]string{"level"})
		require.GreaterOrEqual(t, len(list), 3)
		found := map[string]replay.Difference{}
		for i, d := range list {
			assert.LessOrEqual(t, d.With, f.n)
			assert.LessOrEqual(t, d.Without, f.m)
			if found[d.What+" "+d.Name] = d; strings.HasPrefix(d.Name, "chance") {
				chance++
			}
			if i > 0 {
				assert.LessOrEqual(t, d.Score, list[i-1].Score)
			}
		}
		tested += 20 * 6
		assert.Equal(t, "Osprey", found["attribute quay"].Value)
		assert.Contains(t, found, "missing assign")
		assert.True(t, strings.HasPrefix(found["duration read"].Value, ">= "))
		assert.NotContains(t, found, "operation always")
		assert.NotContains(t, found, "attribute order")
		for _, d := range f.differences([]string{"quay"}) {
			assert.NotEqual(t, "quay", d.Name, "it is in the condition")
		}
	}
	assert.Less(t, chance, tested/100)
}

func TestTemplates(t *testing.T) {
	t.Parallel()
	for message, want := range map[string]string{"gate 3 opens": "gate # opens", "order 4bf92f3577b34da6 fails": "order # fails", "took 12.5ms": "took #.#ms", "fog\nmore": "fog", "": ""} {
		assert.Equal(t, want, template(message))
	}
}

// A name that has too many values only when what several workers counted is put together is left out, and said to be.
func TestNamesWithTooManyValuesAreMarked(t *testing.T) {
	t.Parallel()
	all := newFeatures()
	for part := range 2 {
		f := newFeatures()
		for i := range maxValues - 1 {
			f.next(i%2 == 0)
			f.set(key{"attribute", "order.id", strconv.Itoa(part*maxValues + i)})
			f.set(key{"attribute", "quay", strconv.Itoa(i % 2)})
		}
		assert.Empty(t, f.many)
		all.merge(f)
	}
	assert.Equal(t, map[string]bool{"attribute\x00order.id": true}, all.many)
	for _, d := range all.differences(nil) {
		assert.Equal(t, "quay", d.Name)
	}
	assert.NotEmpty(t, all.differences(nil))
}

// Things that were not looked at are still said to be when the answer is completed.
func TestAnswerKeepsThatItIsCut(t *testing.T) {
	t.Parallel()
	for _, cut := range []bool{false, true} {
		out, err := answer(newFeatures(), replay.Contrast{Cut: cut}, replay.ContrastQuery{})
		require.NoError(t, err)
		assert.Equal(t, cut, out.Cut)
	}
}
