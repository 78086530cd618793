// Package client is the typed client of the service's API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
)

// Client calls one service for one person.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New returns a client for the service at base, such as http://127.0.0.1:7070. The token can be
// empty until SignIn.
func New(base, token string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), token: token, http: &http.Client{}}
}

func (c *Client) send(ctx context.Context, method, path string, body io.Reader, kind string) (*http.Response, error) {
	header := http.Header{}
	if kind != "" {
		header.Set("Content-Type", kind)
	}
	return c.sendWith(ctx, method, path, body, header)
}

// sendWith sends a request with headers.
func (c *Client) sendWith(ctx context.Context, method, path string, body io.Reader, header http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.Unavailable, err)
	}
	request.Header = header
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w: %w", fault.Unavailable, err)
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		return nil, failure(response)
	}
	return response, nil
}

// maxProblem limits the body of an error, in bytes.
const maxProblem = 64 << 10

// failure returns the error of an error answer. It wraps a fault.Kind.
func failure(r *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(r.Body, maxProblem)) // a part of the body is better than none
	var p api.Problem
	if json.Unmarshal(text, &p) != nil || p.Detail == "" && p.Title == "" {
		p = api.Problem{Detail: strings.TrimSpace(string(text))}
	}
	p.Status = r.StatusCode
	return p.Fault()
}

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	kind := ""
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("encode the request: %w", err)
		}
		body, kind = bytes.NewReader(b), "application/json"
	}
	response, err := c.send(ctx, method, path, body, kind)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("%w: unreadable answer: %w", fault.Unavailable, err)
	}
	return nil
}

// SignIn checks credentials and creates a token, which the client uses from then on.
func (c *Client) SignIn(ctx context.Context, who api.Credentials, label string) (api.Token, error) {
	var t api.Token
	err := c.call(ctx, "POST", "/api/tokens", struct {
		api.Credentials
		Label string `json:"label"`
	}{who, label}, &t)
	if err == nil {
		c.token = t.Secret
	}
	return t, err
}

// Me returns the person for whom the client acts.
func (c *Client) Me(ctx context.Context) (p api.Person, err error) {
	return p, c.call(ctx, "GET", "/api/me", nil, &p)
}

// Cases lists the person's cases, newest first.
func (c *Client) Cases(ctx context.Context) (list []api.Case, err error) {
	return list, c.call(ctx, "GET", "/api/cases", nil, &list)
}

// NewCase opens a case, led by the person.
func (c *Client) NewCase(ctx context.Context, n api.NewCase) (out api.Case, err error) {
	return out, c.call(ctx, "POST", "/api/cases", n, &out)
}

// Case returns a case.
func (c *Client) Case(ctx context.Context, name string) (out api.Case, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(name), nil, &out)
}

// Upload streams evidence into a case. When it returns without an error, the bytes are on the
// service's disk.
func (c *Client) Upload(ctx context.Context, caseName, name string, bytes io.Reader, r api.Reading) (out api.EvidenceInfo, err error) {
	q := url.Values{}
	if r.As != "" {
		q.Set("as", r.As)
	}
	for meaning, field := range r.Fields {
		q.Add("field", meaning+"="+field)
	}
	response, err := c.send(ctx, "PUT", evidencePath(caseName, name)+"?"+q.Encode(), bytes, "application/octet-stream")
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
}

// EvidenceInfo returns what is known of a piece of evidence.
func (c *Client) EvidenceInfo(ctx context.Context, caseName, name string) (e api.EvidenceInfo, err error) {
	return e, c.call(ctx, "GET", evidencePath(caseName, name), nil, &e)
}

// IndexAgain has evidence indexed again.
func (c *Client) IndexAgain(ctx context.Context, caseName, name string) (e api.EvidenceInfo, err error) {
	return e, c.call(ctx, "POST", evidencePath(caseName, name)+"/index", nil, &e)
}

// Download writes the bytes of evidence.
func (c *Client) Download(ctx context.Context, caseName, name string, to io.Writer) error {
	return c.receive(ctx, evidencePath(caseName, name)+"/content", to, caseName+"/"+name)
}

// AddArtifact streams a binary, a debug file or an archive of source text into a case. When it
// returns without an error, the bytes are on the service's disk.
func (c *Client) AddArtifact(ctx context.Context, caseName, name string, bytes io.Reader) (out api.Artifact, err error) {
	response, err := c.send(ctx, "PUT", artifactsPath(caseName)+"/"+url.PathEscape(name), bytes, "application/octet-stream")
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
}

func artifactsPath(caseName string) string {
	return "/api/cases/" + url.PathEscape(caseName) + "/artifacts"
}

func evidencePath(caseName, name string) string {
	return "/api/cases/" + url.PathEscape(caseName) + "/evidence/" + url.PathEscape(name)
}

// Await waits until evidence is indexed and returns it. It calls progress with each state.
func (c *Client) Await(ctx context.Context, caseName, name string, progress func(api.EvidenceInfo)) (api.EvidenceInfo, error) {
	for {
		e, err := c.EvidenceInfo(ctx, caseName, name)
		if err != nil {
			return e, err
		}
		if progress != nil {
			progress(e)
		}
		switch e.State {
		case api.StateReady:
			return e, nil
		case api.StateFailed:
			return e, fault.Unreadable.New("", "%s", e.Trouble)
		}
		select {
		case <-ctx.Done():
			return e, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// SetCheckpoint sets a checkpoint in a case.
func (c *Client) SetCheckpoint(ctx context.Context, name string, n api.NewCheckpoint) (out api.Checkpoint, err error) {
	return out, c.call(ctx, "POST", "/api/cases/"+url.PathEscape(name)+"/checkpoints", n, &out)
}

// ChangeCheckpoint changes a checkpoint.
func (c *Client) ChangeCheckpoint(ctx context.Context, name string, id int64, n api.CheckpointChange) (out api.Checkpoint, err error) {
	return out, c.call(ctx, "PATCH", fmt.Sprintf("/api/cases/%s/checkpoints/%d", url.PathEscape(name), id), n, &out)
}

// DeleteCheckpoint deletes a checkpoint.
func (c *Client) DeleteCheckpoint(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/api/cases/%s/checkpoints/%d", url.PathEscape(name), id), nil, nil)
}

// Expectations lists a case's expectations, oldest first.
func (c *Client) Expectations(ctx context.Context, name string) (list []api.KeptExpectation, err error) {
	return list, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(name)+"/expectations", nil, &list)
}

// Expect adds an expectation to a case.
func (c *Client) Expect(ctx context.Context, name string, e ask.Expectation) (out api.KeptExpectation, err error) {
	return out, c.call(ctx, "POST", "/api/cases/"+url.PathEscape(name)+"/expectations", e, &out)
}

// ChangeExpectation changes an expectation.
func (c *Client) ChangeExpectation(ctx context.Context, name string, id int64, n api.ExpectationChange) (out api.KeptExpectation, err error) {
	return out, c.call(ctx, "PATCH", fmt.Sprintf("/api/cases/%s/expectations/%d", url.PathEscape(name), id), n, &out)
}

// DeleteExpectation deletes an expectation.
func (c *Client) DeleteExpectation(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/api/cases/%s/expectations/%d", url.PathEscape(name), id), nil, nil)
}

// Checks returns what each piece of a case's evidence answers to its expectations.
func (c *Client) Checks(ctx context.Context, name string) (out api.Checks, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(name)+"/checks", nil, &out)
}

// CloseCase closes a case with its cause.
func (c *Client) CloseCase(ctx context.Context, name, cause string) (out api.Case, err error) {
	return out, c.call(ctx, "POST", "/api/cases/"+url.PathEscape(name)+"/close", api.Closing{Cause: cause}, &out)
}

// ReopenCase opens a closed case again.
func (c *Client) ReopenCase(ctx context.Context, name string) (out api.Case, err error) {
	return out, c.call(ctx, "POST", "/api/cases/"+url.PathEscape(name)+"/reopen", nil, &out)
}

// WatchCase calls f with each entry of a case's record after one, or from now on if that is 0, until the context ends or f returns an error.
func (c *Client) WatchCase(ctx context.Context, name string, after int64, f func(api.ActivityEntry) error) error {
	header := http.Header{}
	if after > 0 {
		header.Set("Last-Event-ID", strconv.FormatInt(after, 10))
	}
	return c.events(ctx, casePath(name)+"/events", header, func(_, data string) error { return received(data, f) })
}

// JoinSitting joins the sitting of evidence. It opens one if there is none.
func (c *Client) JoinSitting(ctx context.Context, caseName, name, mode string) (s api.Sitting, err error) {
	return s, c.call(ctx, "POST", evidencePath(caseName, name)+"/sitting", map[string]string{"mode": mode}, &s)
}

// SittingOf finds the sitting of evidence, without joining it. The error wraps fault.NotFound if there is none yet.
func (c *Client) SittingOf(ctx context.Context, caseName, name string) (s api.Sitting, err error) {
	return s, c.call(ctx, "GET", evidencePath(caseName, name)+"/sitting", nil, &s)
}

// ChangeSitting moves the person in a sitting, or changes the person's mode.
func (c *Client) ChangeSitting(ctx context.Context, id int64, change api.SittingChange) (s api.Sitting, err error) {
	return s, c.call(ctx, "PATCH", fmt.Sprintf("/api/sittings/%d", id), change, &s)
}

// WatchSitting calls f with each state of a sitting, the current one first, until the context ends
// or f returns an error. It returns that error.
func (c *Client) WatchSitting(ctx context.Context, id int64, f func(api.Sitting) error) error {
	return c.WatchSteps(ctx, id, 0, f, func(api.SittingStep) error { return nil })
}

// WatchSteps calls state with each state of a sitting, the current one first, and step with each step after the one with an ID (0
// for those from now on), until the context ends or one of them returns an error. It returns that error.
func (c *Client) WatchSteps(ctx context.Context, id, after int64, state func(api.Sitting) error, step func(api.SittingStep) error) error {
	header := http.Header{}
	if after > 0 {
		header.Set("Last-Event-ID", strconv.FormatInt(after, 10))
	}
	return c.events(ctx, fmt.Sprintf("/api/sittings/%d/events", id), header, func(name, data string) error {
		if name == "step" {
			return received(data, step)
		}
		return received(data, func(s api.Sitting) error {
			if s.ID == 0 {
				return nil
			}
			return state(s)
		})
	})
}

// mostEvent limits one line of a stream of events, in bytes.
const mostEvent = 4 << 20

// events calls f with the name and the data of each server-sent event of a stream, until it ends or f returns an error.
func (c *Client) events(ctx context.Context, path string, header http.Header, f func(name, data string) error) error {
	response, err := c.sendWith(ctx, "GET", path, nil, header)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, mostEvent)
	name := ""
	for lines.Scan() {
		if x, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			name = x
		}
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			if err := f(name, data); err != nil {
				return err
			}
			name = ""
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: the connection ended", fault.Unavailable)
}

// received calls f with what an event carries.
func received[T any](data string, f func(T) error) error {
	var x T
	if err := json.Unmarshal([]byte(data), &x); err != nil {
		return fmt.Errorf("%w: unreadable answer: %w", fault.Unavailable, err)
	}
	return f(x)
}

// SittingSteps lists what happened in a sitting after a step, oldest first, at most count.
func (c *Client) SittingSteps(ctx context.Context, id, after int64, count int) (list []api.SittingStep, err error) {
	return list, c.call(ctx, "GET", fmt.Sprintf("/api/sittings/%d/steps?after=%d&count=%d", id, after, count), nil, &list)
}

// SayInSitting says something in a sitting.
func (c *Client) SayInSitting(ctx context.Context, id int64, text string) error {
	return c.call(ctx, "POST", fmt.Sprintf("/api/sittings/%d/say", id), api.NewSay{Text: text}, nil)
}

// NewSender creates a token with which programs send spans and logs into a case. Without a case it
// is the person's inbox.
func (c *Client) NewSender(ctx context.Context, caseName, label string) (out api.Sender, err error) {
	path := "/api/inbox/senders"
	if caseName != "" {
		path = sendersPath(caseName)
	}
	return out, c.call(ctx, "POST", path, map[string]string{"label": label}, &out)
}

// Senders lists the sender tokens of a case, newest first.
func (c *Client) Senders(ctx context.Context, caseName string) (out []api.Sender, err error) {
	return out, c.call(ctx, "GET", sendersPath(caseName), nil, &out)
}

// DeleteSender revokes a sender's token.
func (c *Client) DeleteSender(ctx context.Context, caseName string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/%d", sendersPath(caseName), id), nil, nil)
}

func sendersPath(caseName string) string {
	return "/api/cases/" + url.PathEscape(caseName) + "/senders"
}
