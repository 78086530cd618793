package client

import (
	"context"
	"maps"
	"net/url"
	"time"

	"wraithology/api"
	"wraithology/core/ask"
)

// Shared is evidence in the service.
type Shared struct {
	c    *Client
	path string
	// Within is the time limit of a question; 0 for the service's default.
	Within time.Duration
	// Unmask asks for what is masked, too: that needs the right, and is recorded.
	Unmask bool
}

// Evidence returns evidence of a case.
func (c *Client) Evidence(caseName, name string) *Shared {
	return &Shared{c: c, path: evidencePath(caseName, name)}
}

// Ask asks evidence in the service. It returns the same answer as ask.Run for a local recording.
func Ask[A any](ctx context.Context, s *Shared, q ask.Request[A]) (answer A, err error) {
	question := ask.Of(q)
	values := url.Values{}
	if s.Within > 0 {
		values.Set("within", s.Within.String())
	}
	if s.Unmask {
		values.Set("unmask", "true")
	}
	if question.Nested() {
		return answer, s.c.call(ctx, "POST", s.path+"/"+question.Name+"?"+values.Encode(), q, &answer)
	}
	maps.Copy(values, ask.Encode(q))
	return answer, s.c.call(ctx, "GET", s.path+"/"+question.Name+"?"+values.Encode(), nil, &answer)
}

// Target is evidence here, or in the service if Shared is not nil.
type Target struct {
	Local  ask.Subject
	Shared *Shared
}

// Put asks a question of evidence, here or in the service. Both give the same answer.
func Put[A any](ctx context.Context, t Target, q ask.Request[A]) (A, error) {
	if t.Shared != nil {
		return Ask(ctx, t.Shared, q)
	}
	return ask.Run(ctx, t.Local, q)
}

// Traces lists the traces of all evidence of a case, newest first.
func (c *Client) Traces(ctx context.Context, caseName string, q ask.TracesRequest) (out ask.Traces, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(caseName)+"/traces?"+ask.Encode(q).Encode(), nil, &out)
}

// Trace finds the parts of a trace, by its ID or a prefix of it, in all evidence of a case.
func (c *Client) Trace(ctx context.Context, caseName, id string) (out ask.Traces, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(caseName)+"/traces/"+url.PathEscape(id), nil, &out)
}

// Move moves the evidence to another case.
func (s *Shared) Move(ctx context.Context, to string) (out api.EvidenceInfo, err error) {
	return out, s.c.call(ctx, "POST", s.path+"/move", map[string]string{"to": to}, &out)
}

// SetOffset sets how far the evidence's clock is behind the clock of the case.
func (s *Shared) SetOffset(ctx context.Context, offset time.Duration) error {
	return s.c.call(ctx, "PUT", s.path+"/offset", map[string]int64{"offsetNs": int64(offset)}, nil)
}

// Alike lists evidence with the same failure in all cases of the person.
func (s *Shared) Alike(ctx context.Context) (out []api.Alike, err error) {
	return out, s.c.call(ctx, "GET", s.path+"/alike", nil, &out)
}
