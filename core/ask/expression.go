package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/question"
)

var _ = declare[ExpressionRequest, Expression]("ask", "The value of an expression in a frame")

// ExpressionRequest asks for the value of an expression.
type ExpressionRequest struct {
	Place
	Expression string `json:"expression" required:"true" maxLength:"2000" arg:"1" doc:"expression in the Common Expression Language"`
	Width      int    `json:"width" minimum:"0" maximum:"10000" doc:"number of parts of a composite value; 0 for a short text"`
}

// Expression is the value of an expression. If the state is may-have-changed, the value is the last
// known one.
type Expression struct {
	Value string            `json:"value"`
	Type  string            `json:"type"`
	State event.State       `json:"state"`
	Why   string            `json:"why,omitempty"`
	From  []question.Latest `json:"from,omitempty"`
}

// Negative implements Negative: the expression is false.
func (x Expression) Negative() bool {
	return x.Type == "bool" && x.Value == "false" && x.State == event.Known
}

func (q ExpressionRequest) answer(ctx context.Context, s *Subject) (Expression, error) {
	p, err := q.resolve(s)
	if err != nil {
		return Expression{}, err
	}
	x, err := question.Parse(q.Expression)
	if err != nil {
		return Expression{}, err
	}
	got, err := x.Wide(q.Width).Ask(ctx, s.Recording, p.Moment, p.Thread, p.Frame)
	return Expression(got), err
}

func parseAll(texts []string) ([]*question.Question, error) {
	var out []*question.Question
	for _, text := range texts {
		q, err := question.Parse(text)
		if err != nil {
			return nil, err
		}
		out = append(out, q)
	}
	return out, nil
}
