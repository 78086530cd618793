package ask

import (
	"context"

	"wraithology/core/replay"
)

var _ = declare[PartsRequest, Variable]("parts", "A page of the parts of a value")

// PartsRequest asks for a page of the parts of the value that a path leads to.
type PartsRequest struct {
	Place
	Path  string `json:"path" required:"true" maxLength:"2000" arg:"1" doc:"path of the value, as an answer gave it"`
	From  int    `json:"from" minimum:"0" doc:"number of parts to skip"`
	Count int    `json:"count" minimum:"1" maximum:"10000" default:"50" flag:"first" doc:"number of parts"`
}

func (q PartsRequest) answer(ctx context.Context, s *Subject) (Variable, error) {
	p, err := q.resolve(s)
	if err != nil {
		return Variable{}, err
	}
	path, err := replay.ParsePath(q.Path)
	if err != nil {
		return Variable{}, err
	}
	v, err := replay.Follow(ctx, s.Recording, p.Moment, p.Thread, p.Frame, path)
	if err != nil {
		return Variable{}, err
	}
	out := variableOf(path.Last(), path, v.TypeName(), v, depth{})
	children, _ := v.Children(replay.Page{From: q.From, Count: q.Count})
	for _, c := range children {
		out.Children = append(out.Children, variableOf(c.Name, path.With(c.Step), "", c.Value, depth{}))
	}
	return out, nil
}
