package httpapi

import (
	"errors"
	"io"
	"net/http"
	"os"
	"time"

	"wraithology/core/fault"
)

// Limits of an upload: it is cut off after this long without a byte, and if it has been slower on the whole than leastRate, in bytes a second.
const (
	longestPause = time.Minute
	leastRate    = 1 << 10
)

// paced reads the body of an upload, and ends one that stands still or crawls: it would hold its connection and its file for ever.
type paced struct {
	body  io.Reader
	to    *http.ResponseController
	pause time.Duration // that ends it
	begun time.Time
	read  int64
}

func newPaced(w http.ResponseWriter, r *http.Request) *paced {
	return &paced{body: r.Body, to: http.NewResponseController(w), pause: longestPause, begun: time.Now()}
}

// Read implements io.Reader.
func (p *paced) Read(b []byte) (int, error) {
	_ = p.to.SetReadDeadline(time.Now().Add(p.pause)) // where there is a connection
	n, err := p.body.Read(b)
	p.read += int64(n)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return n, fault.CutOff.New("send it again", "the upload stood still for %s after %d bytes", p.pause, p.read)
	}
	if took := time.Since(p.begun); err == nil && took > p.pause && float64(p.read) < leastRate*took.Seconds() {
		return n, fault.CutOff.New("send it over a faster connection", "the upload is too slow: %d bytes in %s", p.read, took.Round(time.Second))
	}
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) { // whoever stores it says what these are
		return n, fault.CutOff.New("send it again", "the upload broke after %d bytes: %w", p.read, err)
	}
	return n, err
}
