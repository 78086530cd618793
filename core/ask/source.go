package ask

import (
	"context"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[SourceRequest, Source]("source", "The function of a frame: how often each line ran in the call, and the values there")

// SourceRequest asks for the source text of a frame's function.
type SourceRequest struct {
	Place
}

// Source is the source text of a function with what ran of it in one call. Hits is -1 for a line that has no
// statement, or where nothing is known of it; Values are those that the line wrote and read when it was
// last reached, at Moment.
type Source struct {
	Function string       `json:"function"`
	File     string       `json:"file"`
	Line     int          `json:"line"` // of the frame
	Lines    []SourceLine `json:"lines"`
}

// SourceLine is one line.
type SourceLine struct {
	Line   int           `json:"line"`
	Text   string        `json:"text"`
	Hits   int           `json:"hits"`
	Moment event.Moment  `json:"moment"`
	Values []SourceValue `json:"values"`
}

// SourceValue is a value that a line wrote or read.
type SourceValue struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// aroundLine is the number of lines before and after the frame's line that are shown of evidence that does
// not say which lines ran.
const aroundLine = 12

func (q SourceRequest) answer(ctx context.Context, s *Subject) (Source, error) {
	out := Source{Lines: []SourceLine{}}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	frames, err := s.Recording.Frames(ctx, p.Moment, p.Thread)
	if err != nil {
		return out, err
	}
	if p.Frame >= len(frames) {
		return out, fault.NoFrame.New("", "no frame %d: the stack has %d frames", p.Frame, len(frames))
	}
	f := frames[p.Frame]
	out.Function, out.File, out.Line = f.Function, f.File, f.Line
	if r, ok := s.Recording.(replay.Brancher); ok {
		list, err := r.Listing(ctx, p.Moment, p.Thread, p.Frame)
		if err != nil {
			return out, err
		}
		out.Function, out.File = list.Function, list.File
		for _, x := range list.Lines {
			line := SourceLine{Line: x.Line, Text: x.Text, Hits: x.Hits, Moment: x.Last, Values: []SourceValue{}}
			for _, v := range x.Values {
				line.Values = append(line.Values, SourceValue{v.Name, valueText(v.Value)})
			}
			out.Lines = append(out.Lines, line)
		}
		return out, nil
	}
	text, err := s.Recording.Source(f.File)
	if err != nil {
		return out, err
	}
	for i, x := range strings.Split(text, "\n") {
		if n := i + 1; n >= f.Line-aroundLine && n <= f.Line+aroundLine {
			out.Lines = append(out.Lines, SourceLine{Line: n, Text: x, Hits: -1, Moment: event.NoMoment, Values: []SourceValue{}})
		}
	}
	return out, nil
}
