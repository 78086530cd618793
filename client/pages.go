package client

import (
	"context"
	"net/url"
	"strconv"

	"wraithology/api"
)

// Page chooses a page of a list: at most Count records (0 for api.RecordsOfPage) after the one that After names, of those that have Text in them.
type Page struct {
	Text  string
	After string
	Count int
}

func (p Page) query() string {
	q := url.Values{"count": {strconv.Itoa(p.size())}}
	if p.Text != "" {
		q.Set("text", p.Text)
	}
	if p.After != "" {
		q.Set("after", p.After)
	}
	return "?" + q.Encode()
}

func (p Page) size() int {
	if p.Count == 0 {
		return api.RecordsOfPage
	}
	return p.Count
}

// all reads a list page by page.
func all[T any](page func(Page) ([]T, error), name func(T) string) (list []T, err error) {
	p := Page{Count: 1000}
	for {
		some, err := page(p)
		list = append(list, some...)
		if err != nil || len(some) < p.size() {
			return list, err
		}
		p.After = name(some[len(some)-1])
	}
}

// EvidencePage lists a page of a case's evidence, newest first.
func (c *Client) EvidencePage(ctx context.Context, name string, p Page) (list []api.EvidenceInfo, err error) {
	return list, c.call(ctx, "GET", casePath(name)+"/evidence"+p.query(), nil, &list)
}

// ListEvidence lists all of a case's evidence, newest first.
func (c *Client) ListEvidence(ctx context.Context, name string) ([]api.EvidenceInfo, error) {
	return all(func(p Page) ([]api.EvidenceInfo, error) { return c.EvidencePage(ctx, name, p) }, func(e api.EvidenceInfo) string { return e.Name })
}

// ArtifactsPage lists a page of a case's artifacts, newest first.
func (c *Client) ArtifactsPage(ctx context.Context, name string, p Page) (list []api.Artifact, err error) {
	return list, c.call(ctx, "GET", artifactsPath(name)+p.query(), nil, &list)
}

// CheckpointsPage lists a page of a case's checkpoints, by place.
func (c *Client) CheckpointsPage(ctx context.Context, name string, p Page) (list []api.Checkpoint, err error) {
	return list, c.call(ctx, "GET", casePath(name)+"/checkpoints"+p.query(), nil, &list)
}
