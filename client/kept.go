package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/core/mask"
)

func casePath(name string) string { return "/api/cases/" + url.PathEscape(name) }

// FindCases lists the person's cases that a query chooses, newest first; the members of the query are those of the API.
func (c *Client) FindCases(ctx context.Context, query url.Values) (list []api.Case, err error) {
	return list, c.call(ctx, "GET", "/api/cases?"+query.Encode(), nil, &list)
}

// Exhibits lists the exhibits of a case after one, oldest first, at most count.
func (c *Client) Exhibits(ctx context.Context, name string, after int64, count int) (list []api.Exhibit, err error) {
	return list, c.call(ctx, "GET", fmt.Sprintf("%s/exhibits?after=%d&count=%d", casePath(name), after, count), nil, &list)
}

// Exhibit finds an exhibit.
func (c *Client) Exhibit(ctx context.Context, name string, id int64) (x api.Exhibit, err error) {
	return x, c.call(ctx, "GET", fmt.Sprintf("%s/exhibits/%d", casePath(name), id), nil, &x)
}

// Keep keeps the answer to a question as an exhibit.
func (c *Client) Keep(ctx context.Context, name string, n api.NewExhibit) (x api.Exhibit, err error) {
	return x, c.call(ctx, "POST", casePath(name)+"/exhibits", n, &x)
}

// NoteExhibit changes the note of an exhibit.
func (c *Client) NoteExhibit(ctx context.Context, name string, id int64, note string) (x api.Exhibit, err error) {
	return x, c.call(ctx, "PATCH", fmt.Sprintf("%s/exhibits/%d", casePath(name), id), api.ExhibitNote{Note: note}, &x)
}

// DeleteExhibit deletes an exhibit.
func (c *Client) DeleteExhibit(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/exhibits/%d", casePath(name), id), nil, nil)
}

// Comments lists comments of a case, oldest first; the members of the query are those of the API.
func (c *Client) Comments(ctx context.Context, name string, query url.Values) (list []api.Comment, err error) {
	return list, c.call(ctx, "GET", casePath(name)+"/comments?"+query.Encode(), nil, &list)
}

// Say adds a comment.
func (c *Client) Say(ctx context.Context, name string, n api.NewComment) (x api.Comment, err error) {
	return x, c.call(ctx, "POST", casePath(name)+"/comments", n, &x)
}

// EditComment changes the text of one's own comment.
func (c *Client) EditComment(ctx context.Context, name string, id int64, text string) (x api.Comment, err error) {
	return x, c.call(ctx, "PATCH", fmt.Sprintf("%s/comments/%d", casePath(name), id), api.CommentText{Text: text}, &x)
}

// DeleteComment deletes one's own comment.
func (c *Client) DeleteComment(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/comments/%d", casePath(name), id), nil, nil)
}

// CommentVersions lists what a comment said before, oldest first.
func (c *Client) CommentVersions(ctx context.Context, name string, id int64) (list []api.Version, err error) {
	return list, c.call(ctx, "GET", fmt.Sprintf("%s/comments/%d/versions", casePath(name), id), nil, &list)
}

// Mentions lists the comments that mention the person and were not seen yet, newest first.
func (c *Client) Mentions(ctx context.Context) (list []api.Mention, err error) {
	return list, c.call(ctx, "GET", "/api/mentions", nil, &list)
}

// SeeMentions notes that the person has seen the mentions up to a comment.
func (c *Client) SeeMentions(ctx context.Context, upto int64) error {
	return c.call(ctx, "POST", "/api/mentions/seen", api.Seen{Upto: upto}, nil)
}

// Theories lists a case's theories.
func (c *Client) Theories(ctx context.Context, name string) (list []api.Theory, err error) {
	return list, c.call(ctx, "GET", casePath(name)+"/theories", nil, &list)
}

// Suspect adds a theory.
func (c *Client) Suspect(ctx context.Context, name string, n api.NewTheory) (x api.Theory, err error) {
	return x, c.call(ctx, "POST", casePath(name)+"/theories", n, &x)
}

// ChangeTheory changes a theory.
func (c *Client) ChangeTheory(ctx context.Context, name string, id int64, n api.TheoryChange) (x api.Theory, err error) {
	return x, c.call(ctx, "PATCH", fmt.Sprintf("%s/theories/%d", casePath(name), id), n, &x)
}

// DeleteTheory deletes a theory.
func (c *Client) DeleteTheory(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/theories/%d", casePath(name), id), nil, nil)
}

// Argue puts an exhibit for or against a theory.
func (c *Client) Argue(ctx context.Context, name string, id, exhibit int64, supports bool) (x api.Theory, err error) {
	return x, c.call(ctx, "PUT", fmt.Sprintf("%s/theories/%d/exhibits/%d", casePath(name), id, exhibit), map[string]bool{"supports": supports}, &x)
}

// Unargue takes an exhibit from a theory.
func (c *Client) Unargue(ctx context.Context, name string, id, exhibit int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/theories/%d/exhibits/%d", casePath(name), id, exhibit), nil, nil)
}

// HandOver returns a note for the next shift.
func (c *Client) HandOver(ctx context.Context, name string) (x api.HandOver, err error) {
	return x, c.call(ctx, "GET", casePath(name)+"/handover", nil, &x)
}

// Activity lists what others did in a case that the person has not seen yet.
func (c *Client) Activity(ctx context.Context, name string) (x api.Activity, err error) {
	return x, c.call(ctx, "GET", casePath(name)+"/activity", nil, &x)
}

// SeeActivity notes up to which entry the person has seen what others did.
func (c *Client) SeeActivity(ctx context.Context, name string, upto int64) error {
	return c.call(ctx, "POST", casePath(name)+"/seen", api.Seen{Upto: upto}, nil)
}

// Report writes the report of a case: as markdown, html or pdf.
func (c *Client) Report(ctx context.Context, name, format string, to io.Writer) error {
	return c.receive(ctx, casePath(name)+"/report?format="+url.QueryEscape(format), to, "the report")
}

// receive writes the body of an answer.
func (c *Client) receive(ctx context.Context, path string, to io.Writer, what string) error {
	response, err := c.send(ctx, "GET", path, nil, "")
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(to, response.Body); err != nil {
		return fmt.Errorf("%w: receive %s: %w", fault.Unavailable, what, err)
	}
	return nil
}

// Export writes a whole case as an archive.
func (c *Client) Export(ctx context.Context, name string, to io.Writer) error {
	return c.receive(ctx, casePath(name)+"/archive", to, "the archive")
}

// ExportMasked writes a case to a writer as an archive without what is masked.
func (c *Client) ExportMasked(ctx context.Context, name string, to io.Writer) error {
	return c.receive(ctx, casePath(name)+"/archive/masked", to, "the archive")
}

// Mask returns the rules for masking of a case.
func (c *Client) Mask(ctx context.Context, name string) (rules api.Masking, err error) {
	return rules, c.call(ctx, "GET", casePath(name)+"/mask", nil, &rules)
}

// SetMask sets the rules for masking of a case.
func (c *Client) SetMask(ctx context.Context, name string, rules mask.Rules) (out api.Masking, err error) {
	return out, c.call(ctx, "PUT", casePath(name)+"/mask", rules, &out)
}

// Import makes a case of an archive, with another name if one is given.
func (c *Client) Import(ctx context.Context, archive io.Reader, as string) (out api.Case, err error) {
	path := "/api/archives"
	if as != "" {
		path += "?as=" + url.QueryEscape(as)
	}
	response, err := c.send(ctx, "POST", path, archive, "application/zip")
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
}
