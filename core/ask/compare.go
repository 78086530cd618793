package ask

import (
	"context"
	"regexp"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/compare"
)

var _ = declare[CompareRequest, Comparison]("compare", "Where a failing run and a passing one part, and what explains it")

// CompareRequest compares the evidence with other evidence of the case.
type CompareRequest struct {
	With      string   `json:"with" arg:"1" maxLength:"400" doc:"name of the evidence of the passing run"`
	Also      []string `json:"also" maxItems:"16" maxLength:"400" flag:"-" doc:"further evidence of passing runs, for the contrasts; may be repeated"`
	Trace     string   `json:"trace" maxLength:"64" doc:"event traces: ID of the trace (default the failed one)"`
	WithTrace string   `json:"withTrace" maxLength:"64" flag:"with-trace" doc:"event traces: ID of the trace beside it (default the first one of the same operation without an error)"`
	Ignore    string   `json:"ignore" maxLength:"1000" doc:"names of variables and fields that are not compared, as a regular expression (RE2)"`
	Count     int      `json:"count" minimum:"1" maximum:"100" default:"10" flag:"first" doc:"number of causes, and of contrasts"`
}

// Comparison is where the runs part. The left one is the evidence that was asked.
type Comparison struct {
	Of        string    `json:"of" enum:"call,span,frame"` // what is aligned
	Aligned   int       `json:"aligned"`                   // those with a counterpart in the other run
	OnlyLeft  int       `json:"onlyLeft"`                  // calls without
	OnlyRight int       `json:"onlyRight"`
	First     *Parting  `json:"first"` // null if the runs are equal
	Causes    []Parting `json:"causes"`
	// Contrasts are simple relations that hold in all passing runs and break in this one.
	Contrasts []Broken `json:"contrasts"`
	// Unexamined is set if there are more places where the runs part, or more relations, than are examined.
	Unexamined bool `json:"unexamined,omitempty"`
}

// Broken is a relation that held Held times in the passing runs. Proposed is set if it can be written as an expectation.
type Broken struct {
	Checkpoint string    `json:"checkpoint"`
	Text       string    `json:"text,omitempty"` // of a line
	That       string    `json:"that"`
	Held       int       `json:"held"`
	Breaks     int       `json:"breaks"`
	Broken     *RunPlace `json:"broken"`
	Proposed   bool      `json:"proposed"`
}

// Parting is a place where two runs part. By path, Name is the line that decided, and the values are what it read; or the
// lines, if the source differs.
type Parting struct {
	Kind       string    `json:"kind"` // path, value
	Name       string    `json:"name"`
	LeftValue  string    `json:"leftValue"`
	RightValue string    `json:"rightValue"`
	Left       *RunPlace `json:"left"` // null if that run has nothing there
	Right      *RunPlace `json:"right"`
	Why        string    `json:"why"`
}

// RunPlace is a moment of a run, and where it is.
type RunPlace struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
}

// usualLimit is longer than for other questions: it reads both recordings as a whole.
func (q CompareRequest) usualLimit() time.Duration { return time.Minute }

// Negative implements Negative: the runs do not part.
func (c Comparison) Negative() bool { return c.First == nil }

func (q CompareRequest) answer(ctx context.Context, s *Subject) (Comparison, error) {
	out := Comparison{Causes: []Parting{}, Contrasts: []Broken{}}
	if q.With == "" {
		return out, fault.InvalidRequest.New("name the evidence of a run that passed", "missing evidence to compare with")
	}
	how := replay.AlignOptions{Causes: q.Count, Trace: q.Trace, WithTrace: q.WithTrace}
	if q.Ignore != "" {
		var err error
		if how.Ignore, err = regexp.Compile(q.Ignore); err != nil {
			return out, fault.InvalidRequest.New("write a regular expression in the syntax of RE2, such as ^(id|token)$", "invalid ignore %q: %v", q.Ignore, err)
		}
	}
	right, err := s.other(ctx, q.With)
	if err != nil {
		return out, err
	}
	align := func(ctx context.Context, right replay.Recording, how replay.AlignOptions) (replay.Comparison, error) {
		return compare.Instants(ctx, s.Recording, right, how)
	}
	if left, ok := s.Recording.(replay.Aligner); ok {
		align = left.Align
	}
	got, err := align(ctx, right, how)
	if err != nil {
		return out, err
	}
	out.Of, out.Aligned, out.OnlyLeft, out.OnlyRight, out.Unexamined = got.Of, got.Aligned, got.OnlyLeft, got.OnlyRight, got.Unexamined
	parting := func(p replay.Parting) Parting {
		out := Parting{Kind: string(p.Kind), Name: p.Name, LeftValue: p.LeftValue, RightValue: p.RightValue, Left: runPlace(ctx, s.Recording, p.Left), Right: runPlace(ctx, right, p.Right), Why: p.Why}
		if p.LeftPlace != nil {
			out.Left = newRunPlace(*p.LeftPlace)
		}
		if p.RightPlace != nil {
			out.Right = newRunPlace(*p.RightPlace)
		}
		return out
	}
	if got.First != nil {
		first := parting(*got.First)
		out.First = &first
	}
	for _, c := range got.Causes {
		out.Causes = append(out.Causes, parting(c))
	}
	return out, q.relate(ctx, s, right, &out)
}

// relate finds the contrasts with all passing runs.
func (q CompareRequest) relate(ctx context.Context, s *Subject, right replay.Recording, out *Comparison) error {
	left, ok := s.Recording.(replay.Relater)
	if !ok || out.First == nil {
		return nil
	}
	passing := []replay.Recording{right}
	for _, name := range q.Also {
		r, err := s.other(ctx, name)
		if err != nil {
			return err
		}
		passing = append(passing, r)
	}
	list, more, err := left.Relate(ctx, passing, q.Count)
	if err != nil {
		return err
	}
	out.Unexamined = out.Unexamined || more
	for _, x := range list {
		out.Contrasts = append(out.Contrasts, Broken{x.Checkpoint, x.Text, x.That, x.Held, x.Breaks, runPlace(ctx, s.Recording, x.Broken), x.IsExpression})
	}
	return nil
}

func runPlace(ctx context.Context, r replay.Recording, m event.Moment) *RunPlace {
	if m == event.NoMoment {
		return nil
	}
	p, err := PlaceAt(ctx, r, m)
	if err != nil {
		return nil
	}
	return &p
}

// PlaceAt returns where a moment is.
func PlaceAt(ctx context.Context, r replay.Recording, m event.Moment) (RunPlace, error) {
	p, err := replay.PlaceOf(ctx, r, m)
	return *newRunPlace(p), err
}

func newRunPlace(p replay.Place) *RunPlace {
	return &RunPlace{Moment: p.Moment, Thread: p.Thread, Function: p.Function, File: p.File, Line: p.Line}
}

// other returns the other evidence of the case with a name.
func (s *Subject) other(ctx context.Context, name string) (replay.Recording, error) {
	list, err := s.others(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range list {
		if o.Name == name {
			return o.Recording, nil
		}
	}
	return nil, fault.NotFound.New("wraith evidence CASE lists the evidence of a case", "evidence %q not found", name)
}
