package ask

import (
	"context"
	"slices"
	"strings"
	"unicode"

	"wraithology/core/replay"
)

// Sketch is what failures are compared by: the own functions of the failing stack, innermost first, and the words of the message. Both
// are empty without a failure.
type Sketch struct {
	Functions []string
	Words     []string
}

const (
	mostSketched = 12 // functions
	mostWords    = 40
	// Of a similarity, how much comes from the stack; the rest comes from the message.
	stackShare = 0.7
)

// SketchOf returns the sketch of a recording's failure.
func SketchOf(ctx context.Context, r replay.Recording) (s Sketch, err error) {
	f := r.Info().Failure
	if f == nil || f.Thread == 0 {
		return s, nil
	}
	frames, err := r.Frames(ctx, f.Moment, f.Thread)
	if err != nil {
		return s, err
	}
	for _, x := range frames {
		if x.Own && len(s.Functions) < mostSketched && !slices.Contains(s.Functions, x.Function) {
			s.Functions = append(s.Functions, x.Function)
		}
	}
	message := f.Summary
	for _, c := range f.Causes {
		message += " " + c.Type + " " + c.Message
	}
	s.Words = wordsOf(message)
	return s, nil
}

// wordsOf returns the different words of a message in lower case, at most 40. Words with digits are all the same word: they differ from
// failure to failure.
func wordsOf(message string) (words []string) {
	for _, w := range strings.FieldsFunc(strings.ToLower(message), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if strings.ContainsFunc(w, unicode.IsDigit) {
			w = "#"
		}
		if len(words) < mostWords && !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	return words
}

// Similarity returns how similar two failures are, from 0 to 1: the weighted Jaccard index (Ruzicka 1958) of the stacks, where an inner
// function weighs more than an outer one, and the Jaccard index (Jaccard 1901) of the words of the messages.
func (s Sketch) Similarity(other Sketch) float64 {
	weight := func(i int) float64 { return 1 / float64(1+i) }
	least, most := 0.0, 0.0
	for i, name := range s.Functions {
		w := weight(i)
		o := 0.0
		if k := slices.Index(other.Functions, name); k >= 0 {
			o = weight(k)
		}
		least, most = least+min(w, o), most+max(w, o)
	}
	for k, name := range other.Functions {
		if !slices.Contains(s.Functions, name) {
			most += weight(k)
		}
	}
	if most == 0 {
		return 0
	}
	shared := 0
	for _, w := range s.Words {
		if slices.Contains(other.Words, w) {
			shared++
		}
	}
	words := 1.0
	if all := len(s.Words) + len(other.Words) - shared; all > 0 {
		words = float64(shared) / float64(all)
	}
	return stackShare*least/most + (1-stackShare)*words
}
