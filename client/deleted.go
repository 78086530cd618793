package client

import (
	"context"
	"io"
	"net/url"
	"strconv"

	"wraithology/api"
	"wraithology/core/custody"
)

// DeleteEvidence deletes evidence, which can be restored for some time.
func (c *Client) DeleteEvidence(ctx context.Context, caseName, name string) error {
	return c.call(ctx, "DELETE", evidencePath(caseName, name), nil, nil)
}

// RestoreEvidence restores evidence.
func (c *Client) RestoreEvidence(ctx context.Context, caseName, name string) error {
	return c.call(ctx, "POST", evidencePath(caseName, name)+"/restore", nil, nil)
}

// DeleteArtifact deletes an artifact, which can be restored for some time.
func (c *Client) DeleteArtifact(ctx context.Context, caseName, name string) error {
	return c.call(ctx, "DELETE", artifactsPath(caseName)+"/"+url.PathEscape(name), nil, nil)
}

// RestoreArtifact restores an artifact.
func (c *Client) RestoreArtifact(ctx context.Context, caseName, name string) error {
	return c.call(ctx, "POST", artifactsPath(caseName)+"/"+url.PathEscape(name)+"/restore", nil, nil)
}

// Deleted lists what of a case can be restored.
func (c *Client) Deleted(ctx context.Context, caseName string) (list []api.Deleted, err error) {
	return list, c.call(ctx, "GET", casePath(caseName)+"/deleted", nil, &list)
}

// DeleteCase deletes a case, which whoever leads it can restore for some time.
func (c *Client) DeleteCase(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", casePath(name), nil, nil)
}

// RestoreCase restores a case.
func (c *Client) RestoreCase(ctx context.Context, name string) (x api.Case, err error) {
	return x, c.call(ctx, "POST", casePath(name)+"/restore", nil, &x)
}

// Retain has evidence of a case deleted some days after it came; 0 for never.
func (c *Client) Retain(ctx context.Context, name string, days int) error {
	return c.call(ctx, "PUT", casePath(name)+"/retention", api.Retention{Days: days}, nil)
}

// Custody lists who did what in a case, newest first: entries before a number, or the newest ones if that is 0; also who read what, if reads is set; only
// those with a text, if it is not empty.
func (c *Client) Custody(ctx context.Context, name string, before int64, reads bool, text string) (list []custody.Entry, err error) {
	q := url.Values{"before": {strconv.FormatInt(before, 10)}, "count": {strconv.Itoa(api.CustodyOfPage)}, "reads": {strconv.FormatBool(reads)}, "text": {text}}
	return list, c.call(ctx, "GET", casePath(name)+"/custody?"+q.Encode(), nil, &list)
}

// ExportCustody writes the signed record of a case to w.
func (c *Client) ExportCustody(ctx context.Context, name string, w io.Writer) error {
	return c.receive(ctx, casePath(name)+"/custody/export", w, "the record")
}
