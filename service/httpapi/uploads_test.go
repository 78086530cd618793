package httpapi_test

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/fault"
	"wraithology/e2e/servicetest"
)

// breaking forwards to a service, and breaks the connection of most uploads after some bytes.
type breaking struct {
	*httputil.ReverseProxy
	random *rand.Rand
	breaks atomic.Int64
}

// short ends with an error after some bytes.
type short struct {
	io.ReadCloser
	left int
}

func (s *short) Read(p []byte) (int, error) {
	if s.left <= 0 {
		return 0, io.ErrUnexpectedEOF
	}
	n, err := s.ReadCloser.Read(p[:min(len(p), s.left)])
	s.left -= n
	return n, err
}

// upTo reads the beginning of something.
type upTo struct {
	io.ReaderAt
	most int64
}

func (u upTo) ReadAt(p []byte, at int64) (int, error) {
	if at+int64(len(p)) > u.most {
		return 0, io.ErrUnexpectedEOF
	}
	return u.ReaderAt.ReadAt(p, at)
}

// An upload in parts arrives whole through a connection that breaks again and again, and the service compares its hash.
func TestUploadInParts(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	c := servicetest.Person(t, service, "Ines")
	_, err := c.NewCase(t.Context(), api.NewCase{Name: "fog"})
	require.NoError(t, err)
	target, err := url.Parse(service.URL)
	require.NoError(t, err)
	b := &breaking{ReverseProxy: httputil.NewSingleHostReverseProxy(target), random: rand.New(rand.NewPCG(1, 2))}
	b.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &http.Server{ReadHeaderTimeout: time.Second, ErrorLog: b.ErrorLog, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "PATCH" && b.breaks.Load() < 8 {
			b.breaks.Add(1)
			r.Body = &short{r.Body, b.random.IntN(200_000)}
		}
		b.ServeHTTP(w, r)
	})}
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	proxied := client.New("http://"+listener.Addr().String(), "")
	_, err = proxied.SignIn(t.Context(), api.Credentials{Name: "Ines", Password: "Ines-secret"}, "proxied")
	require.NoError(t, err)

	text := strings.Repeat(logText, 9000)
	sum := sha256.Sum256([]byte(text))
	p := client.Parts{Case: "fog", Name: "run", Kind: "evidence", Size: int64(len(text)), Bytes: strings.NewReader(text), SHA256: hex.EncodeToString(sum[:]), Patience: 15 * time.Second}
	last := int64(0)
	p.Sent = func(n int64) { last = n }
	require.NoError(t, proxied.UploadInParts(t.Context(), p))
	assert.Equal(t, int64(8), b.breaks.Load(), "it was broken off")
	assert.Equal(t, p.Size, last)
	e, err := c.EvidenceInfo(t.Context(), "fog", "run")
	require.NoError(t, err)
	assert.Equal(t, p.SHA256, e.SHA256)
	require.NoError(t, proxied.UploadInParts(t.Context(), p), "the same again is no error")
	list, err := c.Custody(t.Context(), "fog", 0, false, "")
	require.NoError(t, err)
	assert.Len(t, list, 2, "it came once: %v", list)

	wrong := p
	wrong.Name, wrong.SHA256 = "other", strings.Repeat("0", 64)
	err = c.UploadInParts(t.Context(), wrong)
	require.ErrorIs(t, err, fault.InvalidRequest)
	assert.ErrorContains(t, err, "sha256")
	_, err = c.EvidenceInfo(t.Context(), "fog", "other")
	require.ErrorIs(t, err, fault.NotFound, "nothing of it is there")
	taken := p
	taken.Bytes, taken.Size, taken.SHA256 = strings.NewReader(logText), int64(len(logText)), ""
	require.ErrorIs(t, c.UploadInParts(t.Context(), taken), fault.Exists)
	for _, bad := range []client.Parts{{Name: "../x", Kind: "evidence", Size: 1}, {Name: "x", Kind: "case", Size: 1}, {Name: "x", Kind: "evidence", Size: 0}, {Name: "x", Kind: "evidence", Size: 1 << 60}, {Name: "x", Kind: "evidence", Size: 1, SHA256: "x"}, {Name: "x", Kind: "evidence", Size: 1, Reading: api.Reading{As: "x"}}} {
		bad.Case, bad.Bytes, bad.Patience = "fog", strings.NewReader("x"), time.Millisecond
		err := c.UploadInParts(t.Context(), bad)
		kind, _ := fault.Of(err)
		assert.NotEqual(t, fault.Internal, kind, "%+v: %v", bad, err)
		assert.Error(t, err)
	}
}

// Another command continues an upload, also of a service that was started again; others cannot see it.
func TestContinuedUpload(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	c, tomas := servicetest.Person(t, service, "Ines"), servicetest.Person(t, service, "Tomas")
	_, err := c.NewCase(t.Context(), api.NewCase{Name: "fog"})
	require.NoError(t, err)
	require.NoError(t, c.SetMember(t.Context(), "fog", api.Member{Name: "Tomas", Role: api.RoleMember}))
	text := strings.Repeat(logText, 5000)
	at := ""
	p := client.Parts{Case: "fog", Name: "run", Kind: "evidence", Size: int64(len(text)), Bytes: strings.NewReader(text), Began: func(where string) { at = where }}
	part := p
	part.Bytes, part.Patience = upTo{strings.NewReader(text), p.Size / 3}, time.Millisecond
	require.ErrorIs(t, c.UploadInParts(t.Context(), part), fault.Unavailable)
	require.NotEmpty(t, at)
	s := newSite(t, service.URL)
	records, token := recordsOf(t, service), ""
	for name, want := range map[string]int{"Ines": 200, "Tomas": 404} {
		token = scoped(t, service, records, name, "write")
		got := s.send(t, "HEAD", at, "", "Authorization", "Bearer "+token, "Tus-Resumable", "1.0.0")
		assert.Equal(t, want, got.status, name)
	}
	assert.Equal(t, 404, s.send(t, "DELETE", at, "", "Authorization", "Bearer "+scoped(t, service, records, "Tomas", "write"), "Tus-Resumable", "1.0.0").status)
	ines := scoped(t, service, records, "Ines", "write")
	assert.Equal(t, 422, s.send(t, "HEAD", at, "", "Authorization", "Bearer "+ines).status, "without the version of the protocol")
	assert.Equal(t, 409, s.send(t, "PATCH", at, "x", "Authorization", "Bearer "+ines, "Tus-Resumable", "1.0.0", "Upload-Offset", "1", "Content-Type", "application/offset+octet-stream").status, "another offset")
	for _, path := range []string{"/api/cases/fog/uploads/..%2f..%2fx", "/api/cases/fog/uploads/" + strings.Repeat("0", 32), "/api/cases/mist" + strings.TrimPrefix(at, "/api/cases/fog")} {
		assert.Equal(t, 404, s.send(t, "HEAD", path, "", "Authorization", "Bearer "+ines, "Tus-Resumable", "1.0.0").status, path)
	}
	p.At, p.Sent = at, nil
	require.NoError(t, c.UploadInParts(t.Context(), p))
	e, err := tomas.EvidenceInfo(t.Context(), "fog", "run")
	require.NoError(t, err)
	sum := sha256.Sum256([]byte(text))
	assert.Equal(t, hex.EncodeToString(sum[:]), e.SHA256)

	meta := "name " + base64.StdEncoding.EncodeToString([]byte("x")) + ",kind " + base64.StdEncoding.EncodeToString([]byte("artifact"))
	made := s.send(t, "POST", "/api/cases/fog/uploads", "", "Authorization", "Bearer "+ines, "Tus-Resumable", "1.0.0", "Upload-Length", "4", "Upload-Metadata", meta)
	require.Equal(t, 201, made.status, made.body)
	where, err := url.Parse(made.header.Get("Location"))
	require.NoError(t, err)
	got := s.send(t, "PATCH", where.Path, "fog!", "Authorization", "Bearer "+ines, "Tus-Resumable", "1.0.0", "Upload-Offset", "0", "Content-Type", "application/offset+octet-stream")
	assert.Equal(t, "not-elf", got.problem(t).Type, fmt.Sprint(got.status, got.body))
	assert.Equal(t, 404, s.send(t, "DELETE", made.header.Get("Location")[len(service.URL):], "", "Authorization", "Bearer "+ines, "Tus-Resumable", "1.0.0").status)
}
