package find

import (
	"context"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// A check counts what a walk over all moments counts, with every kind of answer, and finds the first ones.
func TestExpectCountsWhatAWalkCounts(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	seen := replay.Verdict{}
	for seed := range uint64(3) {
		r := recorded(t, seed, 40_000)
		var list []replay.Expected
		var wanted []replay.Verdict
		for _, x := range []struct{ when, that string }{{"", "x > 100"}, {"x != 7", "x > 100"}, {"", "typeOf(x) == 'int'"}, {"typeOf(x) == 'string'", "size(x) > 9"}, {"", "y"}, {"x == 1", "x"}} {
			that, err := question.Parse(x.that)
			require.NoError(t, err)
			c := replay.Checkpoint{Kind: "line", About: "a.go:2"}
			var when *question.Question
			if x.when != "" {
				when, err = question.Parse(x.when)
				require.NoError(t, err)
				c.When = when
			}
			if rand.N(2) == 0 {
				c.Thread = 1
			}
			sites, err := r.sitesOf(c.About)
			require.NoError(t, err)
			want := replay.Verdict{First: event.NoMoment, FirstUnknown: event.NoMoment}
			for m := event.Moment(0); m < r.T.Len(); m++ {
				if r.T.Kind(m) != event.Line || r.T.Site(m) == nil || r.T.Site(m).ID != sites[0] || c.Thread != 0 && r.T.Thread(m) != c.Thread {
					continue
				}
				applies, holds := true, false
				var err error
				if when != nil {
					applies, err = when.Holds(ctx, r, m, r.T.Thread(m))
				}
				if err == nil && applies {
					holds, err = that.Holds(ctx, r, m, r.T.Thread(m))
				}
				switch {
				case err != nil:
					want.Unknown++
					want.FirstUnknown = earlier(want.FirstUnknown, m)
				case !applies:
				case holds:
					want.Holds++
				default:
					want.Breaks++
					want.First = earlier(want.First, m)
				}
			}
			list = append(list, replay.Expected{Checkpoint: c, That: that.Strict()})
			wanted = append(wanted, want)
		}
		verdicts, err := r.Expect(ctx, list)
		require.NoError(t, err)
		for i, got := range verdicts {
			x, want := list[i], wanted[i]
			assert.Equal(t, want.Unknown > 0, got.Trouble != nil, "%v", x)
			seen.Holds, seen.Breaks, seen.Unknown = seen.Holds+got.Holds, seen.Breaks+got.Breaks, seen.Unknown+got.Unknown
			got.Trouble = nil
			assert.Equal(t, want, got, "%v", x)
		}
	}
	assert.Positive(t, seen.Holds)
	assert.Positive(t, seen.Breaks)
	assert.Positive(t, seen.Unknown)
}
