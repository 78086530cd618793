package client

import (
	"context"
	"net/url"
	"strconv"

	"wraithology/core/answer"
)

// Traces lists the traces of all evidence of a case, the newest first.
func (c *Client) Traces(ctx context.Context, caseName string, q answer.TracesQuery) (out answer.Traces, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(caseName)+"/traces?"+tracesQuery(q).Encode(), nil, &out)
}

// Trace finds the parts of a trace, by its ID or the beginning of it, in all evidence
// of a case.
func (c *Client) Trace(ctx context.Context, caseName, id string) (out answer.Traces, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(caseName)+"/traces/"+url.PathEscape(id), nil, &out)
}

func tracesQuery(q answer.TracesQuery) url.Values {
	v := url.Values{}
	if q.When != "" {
		v.Set("when", q.When)
	}
	v.Set("from", strconv.Itoa(q.From))
	v.Set("count", strconv.Itoa(q.Count))
	return v
}

// Traces lists the evidence's traces, the newest first.
func (s *Shared) Traces(ctx context.Context, q answer.TracesQuery) (out answer.Traces, err error) {
	return out, s.get(ctx, "traces", tracesQuery(q), &out)
}

// Spans lists the spans of a trace, named by its ID or by a moment in it.
func (s *Shared) Spans(ctx context.Context, id string, at At) (out answer.Spans, err error) {
	q := at.query()
	if id != "" {
		q.Set("id", id)
	}
	return out, s.get(ctx, "trace", q, &out)
}
