package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"wraithology/core/answer"
	"wraithology/core/evidence"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// Errors that callers tell apart.
var (
	ErrNotSignedIn = errors.New("not signed in")
	ErrRefused     = errors.New("not allowed")
	ErrNotFound    = errors.New("not found")
	ErrUnavailable = errors.New("the service cannot be reached")
	ErrRequest     = errors.New("the service did not accept this")
)

// Client calls one service for one person.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New returns a client for the service at base, such as http://127.0.0.1:7070.
// The token may be empty until the person has signed in.
func New(base, token string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), token: token, http: &http.Client{}}
}

// problem is an error answer (RFC 9457).
type problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (c *Client) send(ctx context.Context, method, path string, body io.Reader, kind string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	if kind != "" {
		request.Header.Set("Content-Type", kind)
	}
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		return nil, failure(response)
	}
	return response, nil
}

func failure(r *http.Response) error {
	var p problem
	text, _ := io.ReadAll(io.LimitReader(r.Body, 64<<10))
	if json.Unmarshal(text, &p) != nil || p.Detail == "" && p.Title == "" {
		p.Detail = strings.TrimSpace(string(text))
	}
	what := p.Detail
	if what == "" {
		what = p.Title
	}
	for _, e := range p.Errors {
		what += "; " + strings.TrimPrefix(e.Location+": ", ": ") + e.Message
	}
	if is, ok := Kinds[p.Type]; ok {
		return &told{what, is}
	}
	kind := ErrRequest
	switch r.StatusCode {
	case http.StatusUnauthorized:
		kind = ErrNotSignedIn
	case http.StatusForbidden:
		kind = ErrRefused
	case http.StatusNotFound:
		kind = ErrNotFound
	case http.StatusServiceUnavailable, http.StatusBadGateway:
		kind = ErrUnavailable
	}
	return &told{what, kind}
}

// Kinds are the errors of core that an answer names by its type, so that they are
// the same here as where the evidence is a local file.
var Kinds = map[string]error{
	"unreadable": evidence.ErrUnreadable, "syntax": question.ErrSyntax, "no-name": question.ErrNoName, "no-value": question.ErrNoValue,
	"out-of-range": replay.ErrOutOfRange, "no-code": replay.ErrNoCode, "no-source": replay.ErrNoSource, "no-thread": replay.ErrNoThread, "no-frame": replay.ErrNoFrame,
	"no-trace": replay.ErrNoTraces, "one-moment": replay.ErrOneMoment, "no-machine": replay.ErrNoMachine,
}

// told is an error that the service told, of a kind that callers tell apart.
type told struct {
	what string
	is   error
}

func (t *told) Error() string { return t.what }
func (t *told) Unwrap() error { return t.is }

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
		return fmt.Errorf("%w: its answer cannot be read: %w", ErrUnavailable, err)
	}
	return nil
}

// SignIn checks credentials and makes a token, with which the client goes on.
func (c *Client) SignIn(ctx context.Context, who Credentials, label string) (Token, error) {
	var t Token
	err := c.call(ctx, "POST", "/api/tokens", struct {
		Credentials
		Label string `json:"label"`
	}{who, label}, &t)
	if err == nil {
		c.token = t.Secret
	}
	return t, err
}

// Me returns the person for whom the client acts.
func (c *Client) Me(ctx context.Context) (p Person, err error) {
	return p, c.call(ctx, "GET", "/api/me", nil, &p)
}

// Cases lists the person's cases, newest first.
func (c *Client) Cases(ctx context.Context) (list []Case, err error) {
	return list, c.call(ctx, "GET", "/api/cases", nil, &list)
}

// NewCase opens a case, led by the person.
func (c *Client) NewCase(ctx context.Context, n NewCase) (out Case, err error) {
	return out, c.call(ctx, "POST", "/api/cases", n, &out)
}

// Case returns a case.
func (c *Client) Case(ctx context.Context, name string) (out Case, err error) {
	return out, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(name), nil, &out)
}

// SetMember adds a person to a case or changes a role.
func (c *Client) SetMember(ctx context.Context, name string, m Member) error {
	return c.call(ctx, "PUT", "/api/cases/"+url.PathEscape(name)+"/members/"+url.PathEscape(m.Name), map[string]string{"role": m.Role}, nil)
}

// ListEvidence lists a case's evidence, newest first.
func (c *Client) ListEvidence(ctx context.Context, name string) (list []EvidenceInfo, err error) {
	return list, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(name)+"/evidence", nil, &list)
}

// Upload streams evidence into a case. When it returns without an error the
// bytes are safe on the service's disk.
func (c *Client) Upload(ctx context.Context, caseName, name string, bytes io.Reader, r Reading) (out EvidenceInfo, err error) {
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

// AddArtifact streams a binary, a debug file or an archive of source text into a
// case. When it returns without an error the bytes are safe on the service's disk.
func (c *Client) AddArtifact(ctx context.Context, caseName, name string, bytes io.Reader) (out Artifact, err error) {
	response, err := c.send(ctx, "PUT", artifactsPath(caseName)+"/"+url.PathEscape(name), bytes, "application/octet-stream")
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
}

// ListArtifacts lists a case's artifacts, newest first.
func (c *Client) ListArtifacts(ctx context.Context, caseName string) (out []Artifact, err error) {
	return out, c.call(ctx, "GET", artifactsPath(caseName), nil, &out)
}

func artifactsPath(caseName string) string {
	return "/api/cases/" + url.PathEscape(caseName) + "/artifacts"
}

func evidencePath(caseName, name string) string {
	return "/api/cases/" + url.PathEscape(caseName) + "/evidence/" + url.PathEscape(name)
}

// Await waits until evidence is indexed, telling progress, and returns it.
func (c *Client) Await(ctx context.Context, caseName, name string, progress func(EvidenceInfo)) (EvidenceInfo, error) {
	for {
		var e EvidenceInfo
		if err := c.call(ctx, "GET", evidencePath(caseName, name), nil, &e); err != nil {
			return e, err
		}
		if progress != nil {
			progress(e)
		}
		switch e.State {
		case StateReady:
			return e, nil
		case StateFailed:
			return e, &told{e.Trouble, evidence.ErrUnreadable}
		}
		select {
		case <-ctx.Done():
			return e, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Checkpoints lists a case's checkpoints.
func (c *Client) Checkpoints(ctx context.Context, name string) (list []Checkpoint, err error) {
	return list, c.call(ctx, "GET", "/api/cases/"+url.PathEscape(name)+"/checkpoints", nil, &list)
}

// SetCheckpoint sets a checkpoint in a case.
func (c *Client) SetCheckpoint(ctx context.Context, name string, n NewCheckpoint) (out Checkpoint, err error) {
	return out, c.call(ctx, "POST", "/api/cases/"+url.PathEscape(name)+"/checkpoints", n, &out)
}

// ChangeCheckpoint changes a checkpoint.
func (c *Client) ChangeCheckpoint(ctx context.Context, name string, id int64, n CheckpointChange) (out Checkpoint, err error) {
	return out, c.call(ctx, "PATCH", fmt.Sprintf("/api/cases/%s/checkpoints/%d", url.PathEscape(name), id), n, &out)
}

// DeleteCheckpoint deletes a checkpoint.
func (c *Client) DeleteCheckpoint(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/api/cases/%s/checkpoints/%d", url.PathEscape(name), id), nil, nil)
}

// JoinSitting joins the sitting of evidence, and opens it where there is none.
func (c *Client) JoinSitting(ctx context.Context, caseName, name, mode string) (s Sitting, err error) {
	return s, c.call(ctx, "POST", evidencePath(caseName, name)+"/sitting", map[string]string{"mode": mode}, &s)
}

// ChangeSitting moves the person in a sitting, or changes the person's mode.
func (c *Client) ChangeSitting(ctx context.Context, id int64, change SittingChange) (s Sitting, err error) {
	return s, c.call(ctx, "PATCH", fmt.Sprintf("/api/sittings/%d", id), change, &s)
}

// WatchSitting calls f with every state of a sitting, beginning with the present
// one, until the context ends or f returns an error, which is returned.
func (c *Client) WatchSitting(ctx context.Context, id int64, f func(Sitting) error) error {
	response, err := c.send(ctx, "GET", fmt.Sprintf("/api/sittings/%d/events", id), nil, "")
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var s Sitting
		if err := json.Unmarshal([]byte(data), &s); err != nil {
			return fmt.Errorf("%w: its answer cannot be read: %w", ErrUnavailable, err)
		}
		if s.ID == 0 {
			continue
		}
		if err := f(s); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: the connection ended", ErrUnavailable)
}

// Shared is evidence in the service, to be asked.
type Shared struct {
	c    *Client
	path string
}

// Evidence returns evidence of a case, to be asked.
func (c *Client) Evidence(caseName, name string) *Shared {
	return &Shared{c, evidencePath(caseName, name)}
}

// NewSender makes a token with which programs send spans and logs into a case; with
// an empty name into the person's inbox.
func (c *Client) NewSender(ctx context.Context, caseName, label string) (out Sender, err error) {
	path := "/api/inbox/senders"
	if caseName != "" {
		path = sendersPath(caseName)
	}
	return out, c.call(ctx, "POST", path, map[string]string{"label": label}, &out)
}

// Senders lists the tokens that may send into a case, newest first.
func (c *Client) Senders(ctx context.Context, caseName string) (out []Sender, err error) {
	return out, c.call(ctx, "GET", sendersPath(caseName), nil, &out)
}

// DeleteSender takes a sender's token away.
func (c *Client) DeleteSender(ctx context.Context, caseName string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/%d", sendersPath(caseName), id), nil, nil)
}

func sendersPath(caseName string) string {
	return "/api/cases/" + url.PathEscape(caseName) + "/senders"
}

// Move moves the evidence to another case.
func (s *Shared) Move(ctx context.Context, to string) (out EvidenceInfo, err error) {
	return out, s.c.call(ctx, "POST", s.path+"/move", map[string]string{"to": to}, &out)
}

// SetOffset says how far the evidence's clock is behind the case's.
func (s *Shared) SetOffset(ctx context.Context, offset time.Duration) error {
	return s.c.call(ctx, "PUT", s.path+"/offset", map[string]int64{"offsetNs": int64(offset)}, nil)
}

// Messages gives what was said around a moment: of all, of the thread, or of the trace.
func (s *Shared) Messages(ctx context.Context, at At, m answer.MessagesQuery) (out answer.Messages, err error) {
	q := at.query()
	q.Set("of", m.Of)
	q.Set("before", strconv.Itoa(m.Before))
	q.Set("after", strconv.Itoa(m.After))
	return out, s.get(ctx, "messages", q, &out)
}

// Instant finds what is at the same instant as a moment in the case's other evidence.
func (s *Shared) Instant(ctx context.Context, at At) (out answer.Instant, err error) {
	return out, s.get(ctx, "instant", at.query(), &out)
}

// Alike lists the evidence with the same failure in all of the person's cases.
func (s *Shared) Alike(ctx context.Context) (out []Alike, err error) {
	return out, s.get(ctx, "alike", url.Values{}, &out)
}

func (s *Shared) get(ctx context.Context, what string, q url.Values, out any) error {
	return s.c.call(ctx, "GET", s.path+"/"+what+"?"+q.Encode(), nil, out)
}

func (at At) query() url.Values {
	q := url.Values{}
	if at.Moment >= 0 {
		q.Set("moment", strconv.FormatInt(at.Moment, 10))
	}
	if at.Thread > 0 {
		q.Set("thread", strconv.FormatUint(uint64(at.Thread), 10))
	}
	if at.Frame > 0 {
		q.Set("frame", strconv.Itoa(at.Frame))
	}
	return q
}

// Peek says what the evidence is, how it ended and what is missing.
func (s *Shared) Peek(ctx context.Context) (out answer.Peek, err error) {
	return out, s.get(ctx, "peek", nil, &out)
}

// Stack returns the stack of a thread, or of all.
func (s *Shared) Stack(ctx context.Context, at At, all bool) (out answer.Stack, err error) {
	q := at.query()
	if all {
		q.Set("all", "true")
	}
	return out, s.get(ctx, "stack", q, &out)
}

// Values returns the variables of a frame.
func (s *Shared) Values(ctx context.Context, at At, depth answer.Depth) (out answer.Values, err error) {
	q := at.query()
	q.Set("levels", strconv.Itoa(depth.Levels))
	q.Set("width", strconv.Itoa(depth.Width))
	set(q, "format", string(depth.Format))
	return out, s.get(ctx, "values", q, &out)
}

// Ask evaluates an expression in a frame.
func (s *Shared) Ask(ctx context.Context, at At, expression string) (out answer.Ask, err error) {
	q := at.query()
	q.Set("expression", expression)
	return out, s.get(ctx, "ask", q, &out)
}

func set(q url.Values, name, value string) {
	if value != "" {
		q.Set(name, value)
	}
}

func setNumber(q url.Values, name string, n int) {
	if n != 0 {
		q.Set(name, strconv.Itoa(n))
	}
}

// checkpoint adds what a checkpoint is on to a query.
func checkpoint(q url.Values, c answer.CheckpointQuery) {
	for name, value := range map[string]string{"file": c.File, "enter": c.Enter, "return": c.Return, "error": c.Error, "write": c.Write, "output": c.Output, "when": c.When, "nth": c.Nth} {
		set(q, name, value)
	}
	setNumber(q, "line", c.Line)
	setNumber(q, "onThread", int(c.OnThread))
	for _, x := range c.Show {
		q.Add("show", x)
	}
}

// Hits returns a page of a checkpoint's hits. The place is that from which the
// path of a write is reached.
func (s *Shared) Hits(ctx context.Context, at At, c answer.CheckpointQuery) (out answer.Hits, err error) {
	q := at.query()
	checkpoint(q, c)
	if c.Slowest {
		q.Set("slowest", "true")
	}
	q.Set("from", strconv.Itoa(c.From))
	q.Set("count", strconv.Itoa(c.Count))
	return out, s.get(ctx, "hits", q, &out)
}

// Run goes from a place to the next or previous hit of a checkpoint, or of any
// enabled checkpoint of the case where c names none.
func (s *Shared) Run(ctx context.Context, at At, c answer.CheckpointQuery, back bool) (out answer.Step, err error) {
	q := at.query()
	checkpoint(q, c)
	q.Set("back", strconv.FormatBool(back))
	return out, s.get(ctx, "run", q, &out)
}

// Step steps from a place.
func (s *Shared) Step(ctx context.Context, at At, step replay.Step, count int) (out answer.Step, err error) {
	q := at.query()
	q.Set("way", string(step.Way))
	q.Set("back", strconv.FormatBool(step.Back))
	q.Set("count", strconv.Itoa(count))
	q.Set("everything", strconv.FormatBool(step.Everything))
	q.Set("anyThread", strconv.FormatBool(step.AnyThread))
	set(q, "file", step.File)
	setNumber(q, "line", step.Line)
	setNumber(q, "outer", step.Outer)
	return out, s.get(ctx, "step", q, &out)
}

// Writes returns a page of the writes of what a path leads to, or only the last
// one before the moment.
func (s *Shared) Writes(ctx context.Context, at At, path string, last bool, page replay.Page) (out answer.Writes, err error) {
	q := at.query()
	q.Set("path", path)
	q.Set("last", strconv.FormatBool(last))
	q.Set("from", strconv.Itoa(page.From))
	q.Set("count", strconv.Itoa(page.Count))
	return out, s.get(ctx, "writes", q, &out)
}

// Origin explains a value by the writes that it came from.
func (s *Shared) Origin(ctx context.Context, at At, path string, depth int) (out answer.Origin, err error) {
	q := at.query()
	q.Set("path", path)
	q.Set("depth", strconv.Itoa(depth))
	return out, s.get(ctx, "origin", q, &out)
}

// Ledger fills a table of moments and expressions.
func (s *Shared) Ledger(ctx context.Context, at At, l answer.LedgerQuery) (out answer.Ledger, err error) {
	return out, s.c.call(ctx, "POST", s.path+"/ledger?"+at.query().Encode(), l, &out)
}

// Search finds a value among all that were recorded.
func (s *Shared) Search(ctx context.Context, at At, x answer.SearchQuery) (out answer.Search, err error) {
	q := at.query()
	set(q, "text", x.Text)
	set(q, "type", x.Type)
	set(q, "object", x.Object)
	q.Set("from", strconv.Itoa(x.From))
	q.Set("count", strconv.Itoa(x.Count))
	return out, s.get(ctx, "search", q, &out)
}

// Changed says what differs from the frame's previous moment.
func (s *Shared) Changed(ctx context.Context, at At) (out answer.Changed, err error) {
	return out, s.get(ctx, "changed", at.query(), &out)
}

// Meanwhile says what each thread did between two moments.
func (s *Shared) Meanwhile(ctx context.Context, from, to int64) (out answer.Meanwhile, err error) {
	return out, s.get(ctx, "meanwhile", url.Values{"from": {strconv.FormatInt(from, 10)}, "to": {strconv.FormatInt(to, 10)}}, &out)
}

// Source returns the text of a source file.
func (s *Shared) Source(ctx context.Context, file string) (string, error) {
	var out Source
	err := s.get(ctx, "source", url.Values{"file": {file}}, &out)
	return out.Text, err
}

// Groups returns the threads at a moment, grouped by their stacks.
func (s *Shared) Groups(ctx context.Context, at At) (out answer.Groups, err error) {
	return out, s.get(ctx, "threads", at.query(), &out)
}

func addressQuery(address uint64) url.Values {
	return url.Values{"address": {"0x" + strconv.FormatUint(address, 16)}}
}

// Memory returns the memory at an address of a core dump.
func (s *Shared) Memory(ctx context.Context, address, count uint64) (out answer.Memory, err error) {
	q := addressQuery(address)
	q.Set("count", strconv.FormatUint(count, 10))
	return out, s.get(ctx, "memory", q, &out)
}

// Holders lists the places in a core dump's memory that hold an address.
func (s *Shared) Holders(ctx context.Context, pointer uint64, page replay.Page) (out answer.Holders, err error) {
	q := addressQuery(pointer)
	q.Set("from", strconv.Itoa(page.From))
	q.Set("count", strconv.Itoa(page.Count))
	return out, s.get(ctx, "holders", q, &out)
}

// Instructions returns the instructions around a frame's place.
func (s *Shared) Instructions(ctx context.Context, at At, before, after int) (out answer.Instructions, err error) {
	q := at.query()
	q.Set("before", strconv.Itoa(before))
	q.Set("after", strconv.Itoa(after))
	return out, s.get(ctx, "instructions", q, &out)
}
