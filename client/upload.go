package client

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"wraithology/api"
	"wraithology/core/fault"
)

// InParts is the size from which evidence is better uploaded in parts, in bytes.
const InParts = 32 << 20

// Parts is an upload that can be continued, by the tus protocol 1.0.0.
type Parts struct {
	Case, Name string
	Kind       string // evidence or artifact
	Reading    api.Reading
	SHA256     string // that the service compares; empty for none
	Size       int64
	Bytes      io.ReaderAt
	// At is where an upload that was begun before is continued; empty to begin one.
	At string
	// Began, if it is not nil, is told where the upload can be continued.
	Began func(at string)
	// Sent, if it is not nil, is told how many bytes have arrived.
	Sent func(bytes int64)
	// Patience is how long a service is waited for that cannot be reached; 0 for ten minutes.
	Patience time.Duration
}

const (
	tusVersion     = "1.0.0"
	usualPatience  = 10 * time.Minute
	longestWait    = 20 * time.Second
	mostBeginnings = 3 // of one upload: the service may have given it up
)

// UploadInParts uploads a file, and continues after whatever breaks the connection. When it returns without an error, it is in the case.
func (c *Client) UploadInParts(ctx context.Context, p Parts) error {
	patience := p.Patience
	if patience == 0 {
		patience = usualPatience
	}
	beginnings := 0
	const shortest = 200 * time.Millisecond
	wait, since, reached := shortest, time.Now(), int64(0)
	for {
		offset, done, err := c.continued(ctx, &p, &beginnings)
		switch {
		case err == nil && done:
			return nil
		case err == nil:
			continue
		case ctx.Err() != nil:
			return ctx.Err()
		}
		if offset > reached { // some of it has arrived
			wait, since, reached = shortest, time.Now(), offset
		}
		if kind, _ := fault.Of(err); kind != fault.Unavailable && kind != fault.CutOff && kind != fault.Internal || time.Since(since) > patience {
			return fmt.Errorf("upload, after %d bytes: %w", offset, err)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
		wait = min(2*wait, longestWait)
	}
}

// continued sends what is missing of an upload. It begins one if there is none. done is set when it is in the case.
func (c *Client) continued(ctx context.Context, p *Parts, beginnings *int) (offset int64, done bool, err error) {
	if p.At == "" {
		if *beginnings++; *beginnings > mostBeginnings {
			return 0, false, fault.NotFound.New("send it again", "the service has given the upload up %d times", mostBeginnings)
		}
		if p.At, err = c.begin(ctx, p); err != nil {
			return 0, false, err
		}
		if p.Began != nil {
			p.Began(p.At)
		}
	}
	header := http.Header{"Tus-Resumable": {tusVersion}}
	response, err := c.sendWith(ctx, "HEAD", p.At, nil, header.Clone())
	if errors.Is(err, fault.NotFound) { // given up meanwhile, or it is in the case already: the answer was lost
		p.At = ""
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	response.Body.Close()
	if offset, err = strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64); err != nil || offset < 0 || offset > p.Size {
		return 0, false, fmt.Errorf("%w: invalid offset %.40q", fault.Unavailable, response.Header.Get("Upload-Offset"))
	}
	header.Set("Upload-Offset", strconv.FormatInt(offset, 10))
	header.Set("Content-Type", "application/offset+octet-stream")
	body := &counting{r: io.NewSectionReader(p.Bytes, offset, p.Size-offset), n: offset, told: p.Sent}
	response, err = c.sendWith(ctx, "PATCH", p.At, body, header)
	if err != nil {
		return offset, false, err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNoContent { // not all of it
		return offset, false, nil
	}
	var answer json.RawMessage
	if err := json.NewDecoder(response.Body).Decode(&answer); err != nil {
		return offset, false, fmt.Errorf("%w: unreadable answer: %w", fault.Unavailable, err)
	}
	return p.Size, true, nil
}

// begin begins an upload and returns where it is continued.
func (c *Client) begin(ctx context.Context, p *Parts) (string, error) {
	fields := url.Values{}
	for meaning, field := range p.Reading.Fields {
		fields.Add("field", meaning+"="+field)
	}
	var meta []string
	for _, m := range [][2]string{{"name", p.Name}, {"kind", p.Kind}, {"as", p.Reading.As}, {"fields", fields.Encode()}, {"sha256", p.SHA256}} {
		if m[1] != "" {
			meta = append(meta, m[0]+" "+base64.StdEncoding.EncodeToString([]byte(m[1])))
		}
	}
	response, err := c.sendWith(ctx, "POST", casePath(p.Case)+"/uploads", nil, http.Header{"Tus-Resumable": {tusVersion}, "Upload-Length": {strconv.FormatInt(p.Size, 10)}, "Upload-Metadata": {strings.Join(meta, ",")}})
	if err != nil {
		return "", err
	}
	response.Body.Close()
	at, err := url.Parse(response.Header.Get("Location"))
	if err != nil || !strings.HasPrefix(at.Path, "/") {
		return "", fmt.Errorf("%w: the service does not say where the upload is continued", fault.Unavailable)
	}
	return at.EscapedPath(), nil // of this service, whatever it calls itself
}

// counting tells how much was read.
type counting struct {
	r    io.Reader
	n    int64
	told func(int64)
}

// Read implements io.Reader.
func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.n += int64(n); c.told != nil {
		c.told(c.n)
	}
	return n, err
}
