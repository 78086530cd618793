package ask

import (
	"cmp"
	"context"
	"fmt"
	"math/big"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/question"
	"wraithology/core/replay"
)

var _ = declare[PairsRequest, Pairs]("pairs", "Two lists of hits, compared by key: which values differ, and what these have in common")

// PairsRequest asks to compare the hits of a checkpoint with those of another one by a key. Hits with the same key are paired in
// their order.
type PairsRequest struct {
	Hits      CheckpointOn `json:"hits" flag:"-" doc:"checkpoint of the first list"`
	Key       string       `json:"key" required:"true" maxLength:"2000" doc:"expression of the key at a hit"`
	Value     string       `json:"value" required:"true" maxLength:"2000" doc:"expression that is compared"`
	With      CheckpointOn `json:"with" flag:"-" doc:"checkpoint of the second list; that of the first one by default"`
	WithKey   string       `json:"withKey" maxLength:"2000" flag:"with-key" doc:"expression of the key at a hit of the second list (default that of --key)"`
	WithValue string       `json:"withValue" maxLength:"2000" flag:"with-value" doc:"expression that is compared at a hit of the second list (default that of --value)"`
	In        string       `json:"in" maxLength:"400" flag:"-" doc:"name of the evidence with the second list; the same evidence by default"`
	From      int          `json:"from" minimum:"0" doc:"number of differing pairs to skip"`
	Count     int          `json:"count" minimum:"1" maximum:"1000" default:"10" flag:"-" doc:"number of differing pairs"`
}

// Pairs is how the two lists compare. Differ of Pairs have different values; OnlyLeft and OnlyRight are hits without a
// counterpart. Unknown counts the hits without a key and the pairs without a value, and Trouble is the reason at the first one.
type Pairs struct {
	Left      int    `json:"left"` // hits of the first list
	Right     int    `json:"right"`
	Pairs     int    `json:"pairs"`
	Differ    int    `json:"differ"`
	OnlyLeft  int    `json:"onlyLeft"`
	OnlyRight int    `json:"onlyRight"`
	Unknown   int    `json:"unknown"`
	Trouble   string `json:"trouble,omitempty"`
	// Differing lists those that differ, then those without a counterpart.
	Differing []Pair `json:"differing"`
	// Common is what those that differ have in common, unlike the others.
	Common []Separation `json:"common"`
	// Unexamined counts hits beyond the greatest number that is compared, and is set for the search of what they have in common too.
	Unexamined int  `json:"unexamined,omitempty"`
	Cut        bool `json:"cut,omitempty"`
}

// Pair are two hits with the same key. Left or Right is null if there is no counterpart.
type Pair struct {
	Key        string    `json:"key"`
	LeftValue  string    `json:"leftValue"`
	RightValue string    `json:"rightValue"`
	Left       *RunPlace `json:"left"`
	Right      *RunPlace `json:"right"`
}

// mostPairs limits the hits of each list.
const mostPairs = 1_000_000

// usualLimit is longer than for other questions: it evaluates two expressions at all hits.
func (q PairsRequest) usualLimit() time.Duration { return time.Minute }

// Negative implements Negative: nothing differs.
func (p Pairs) Negative() bool { return p.Differ+p.OnlyLeft+p.OnlyRight == 0 }

// keyed is a hit with its key and value. trouble is why one of them is not known.
type keyed struct {
	at         event.Moment
	key, value string
	trouble    error
}

// matched is a pair of hits; one of them is nil if it has no counterpart.
type matched struct{ left, right *keyed }

func (q PairsRequest) answer(ctx context.Context, s *Subject) (Pairs, error) {
	out := Pairs{Differing: []Pair{}, Common: []Separation{}}
	right := s.Recording
	if q.In != "" {
		var err error
		if right, err = s.other(ctx, q.In); err != nil {
			return out, err
		}
	}
	if q.With.On == "" {
		q.With = q.Hits
	}
	a, total, err := keyedHits(ctx, s.Recording, q.Hits, q.Key, q.Value)
	if err != nil {
		return out, err
	}
	out.Left = total
	b, total, err := keyedHits(ctx, right, q.With, cmp.Or(q.WithKey, q.Key), cmp.Or(q.WithValue, q.Value))
	if err != nil {
		return out, err
	}
	out.Right = total
	out.Unexamined = out.Left - len(a) + out.Right - len(b)
	var differing, alone []matched
	pairs := []replay.ContrastPair{}
	for _, m := range pairUp(a, b) {
		switch {
		case m.left == nil:
			out.OnlyRight++
			alone = append(alone, m)
			continue
		case m.right == nil:
			out.OnlyLeft++
			alone = append(alone, m)
			continue
		}
		out.Pairs++
		if m.left.trouble != nil || m.right.trouble != nil {
			out.doubt(cmp.Or(m.left.trouble, m.right.trouble))
			continue
		}
		differs := !sameValue(m.left.value, m.right.value)
		if !differs && strings.Contains(m.left.value, "…") && !strings.HasPrefix(m.left.value, `"`) {
			out.doubt(fault.InvalidRequest.New("compare a part of them", "the values %s are too large to be compared as a whole", m.left.value))
			continue
		}
		if differs {
			out.Differ++
			differing = append(differing, m)
		}
		pair := replay.ContrastPair{Left: m.left.at, Right: m.right.at, Has: differs}
		if q.In != "" {
			pair.Right = event.NoMoment
		}
		pairs = append(pairs, pair)
	}
	for _, list := range [][]keyed{a, b} {
		for _, x := range list {
			if x.key == "" {
				out.doubt(x.trouble)
			}
		}
	}
	listed := append(differing, alone...)
	from, to := (replay.Page{From: q.From, Count: q.Count}).Cut(len(listed))
	for _, m := range listed[from:to] {
		p := Pair{}
		if m.left != nil {
			p.Key, p.LeftValue, p.Left = m.left.key, m.left.value, runPlace(ctx, s.Recording, m.left.at)
		}
		if m.right != nil {
			p.Key, p.RightValue, p.Right = m.right.key, m.right.value, runPlace(ctx, right, m.right.at)
		}
		out.Differing = append(out.Differing, p)
	}
	return out, q.common(ctx, s, pairs, &out)
}

// common finds what the differing pairs have in common.
func (q PairsRequest) common(ctx context.Context, s *Subject, pairs []replay.ContrastPair, out *Pairs) error {
	if out.Differ == 0 {
		return nil
	}
	r, err := capability[replay.Contraster](s, noHistory("difference to find"))
	if err != nil {
		return err
	}
	const (
		most  = 10
		least = 0.05 // less separates nothing
	)
	got, err := r.Contrast(ctx, replay.ContrastQuery{Pairs: pairs, Page: replay.Page{Count: most}})
	if err != nil {
		return err
	}
	out.Cut = got.Cut
	for _, d := range got.Differences {
		if d.Score >= least {
			out.Common = append(out.Common, Separation(d))
		}
	}
	return nil
}

func (p *Pairs) doubt(trouble error) {
	p.Unknown++
	if p.Trouble == "" && trouble != nil {
		p.Trouble = trouble.Error()
	}
}

// keyedHits evaluates the key and the value at all hits of a checkpoint.
func keyedHits(ctx context.Context, r replay.Recording, on CheckpointOn, key, value string) (list []keyed, total int, err error) {
	f, ok := r.(replay.Finder)
	if !ok {
		return nil, 0, noHistory("hit to compare")
	}
	c, err := on.Checkpoint(r, Place{})
	if err != nil {
		return nil, 0, err
	}
	expressions, err := parseAll([]string{key, value})
	if err != nil {
		return nil, 0, err
	}
	hits, err := f.Hits(ctx, c, replay.Page{Count: mostPairs})
	if err != nil {
		return nil, 0, err
	}
	list = make([]keyed, len(hits.Page))
	const piece = 1024
	err = guard.Each(ctx, (len(list)+piece-1)/piece, func(ctx context.Context, p int) error {
		for i := p * piece; i < min((p+1)*piece, len(list)); i++ {
			list[i] = keyedAt(ctx, r, hits.Page[i], expressions[0], expressions[1])
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
		return nil
	})
	return list, hits.Total, err
}

// keyedAt evaluates the key and the value at a hit.
func keyedAt(ctx context.Context, r replay.Recording, at event.Moment, key, value *question.Question) keyed {
	x := keyed{at: at}
	t, err := r.ThreadOf(at)
	if err != nil {
		x.trouble = err
		return x
	}
	const parts = 1000
	text := func(q *question.Question) (string, error) {
		got, err := q.Wide(parts).Ask(ctx, r, at, t, 0)
		if err == nil && got.State != event.Known {
			err = fmt.Errorf("the value may have changed: %s", got.Why)
		}
		return got.Value, err
	}
	if x.key, x.trouble = text(key); x.trouble == nil {
		x.value, x.trouble = text(value)
	}
	return x
}

// pairUp pairs hits with the same key, the first with the first. The order is that of the left hits; those of the right list
// without a counterpart are last. Hits without a key are left out.
func pairUp(left, right []keyed) (list []matched) {
	waiting := map[string][]*keyed{}
	for i := range right {
		if x := &right[i]; x.key != "" {
			waiting[x.key] = append(waiting[x.key], x)
		}
	}
	isPaired := map[*keyed]bool{}
	for i := range left {
		x := &left[i]
		if x.key == "" {
			continue
		}
		m := matched{left: x}
		if w := waiting[x.key]; len(w) > 0 {
			m.right, waiting[x.key] = w[0], w[1:]
			isPaired[w[0]] = true
		}
		list = append(list, m)
	}
	for i := range right {
		if x := &right[i]; x.key != "" && !isPaired[x] {
			list = append(list, matched{right: x})
		}
	}
	return list
}

// sameValue reports whether two texts are the same value. Numbers of different types are compared as numbers.
func sameValue(a, b string) bool {
	if a == b {
		return true
	}
	x, ok := number(a)
	y, ok2 := number(b)
	return ok && ok2 && x.Cmp(y) == 0
}

// number parses a decimal number. Exponents with more digits than those of float64 are not parsed: a fraction holds all its digits.
func number(s string) (*big.Rat, bool) {
	const longest, exponentDigits = 64, 4
	_, exponent, _ := strings.Cut(s, "e")
	if len(s) > longest || len(exponent) > exponentDigits || strings.Trim(s, "+-.0123456789e") != "" {
		return nil, false
	}
	return new(big.Rat).SetString(s)
}
