package httpapi_test

import (
	"bufio"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/e2e/servicetest"
	"wraithology/service/store"
)

// raw sends requests as bytes and reads a number of answers. If that is 0 it closes the sending side of the connection, and reads those that come.
func raw(t *testing.T, s site, request string, most int) (statuses []int) {
	c, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(20*time.Second)))
	_, err = c.Write([]byte(request))
	require.NoError(t, err)
	if most == 0 {
		require.NoError(t, c.(*net.TCPConn).CloseWrite())
	}
	r := bufio.NewReader(c)
	for {
		answer, err := http.ReadResponse(r, nil)
		if err != nil {
			return statuses
		}
		statuses = append(statuses, answer.StatusCode)
		answer.Body.Close()
		if answer.Close || len(statuses) == most {
			return statuses
		}
	}
}

// A body that is cut off, or whose length is not said in one way, is kept nowhere, whatever it is of; a whole one is kept once, however often it comes.
func TestBrokenBodies(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	s := newSite(t, service.URL)
	records := recordsOf(t, service)
	c := servicetest.Person(t, service, "Lead")
	token := scoped(t, service, records, "Lead", store.ScopeWrite)
	require.Equal(t, 201, s.send(t, "POST", "/api/cases", `{"name":"fog","title":"Fog"}`, "Authorization", "Bearer "+token).status)
	head := func(method, path string, more ...string) string {
		return fmt.Sprintf("%s %s HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\n%s\r\n\r\n", method, path, strings.TrimPrefix(s.url, "http://"), token, strings.Join(more, "\r\n"))
	}
	chunk := func(text string) string { return fmt.Sprintf("%x\r\n%s\r\n", len(text), text) }
	length := func(n int) string { return fmt.Sprintf("Content-Length: %d", n) }
	const chunked = "Transfer-Encoding: chunked"
	n := 0
	for what, of := range map[string]struct{ method, path, body string }{
		"evidence": {"PUT", "/api/cases/fog/evidence/e%d", logText}, "artifact": {"PUT", "/api/cases/fog/artifacts/a%d", sourceArchive(t)},
		"comment": {"POST", "/api/cases/fog/comments", `{"text":"fog"}`}, "case": {"POST", "/api/cases", `{"name":"x%d","title":""}`}, "import": {"POST", "/api/cases/import?as=i%d", "PK\x03\x04"},
	} {
		for how, request := range map[string]func(path, body string) string{
			"cut off":         func(path, body string) string { return head(of.method, path, length(len(body)+100)) + body },
			"cut off at once": func(path, body string) string { return head(of.method, path, length(len(body))) },
			"no last chunk":   func(path, body string) string { return head(of.method, path, chunked) + chunk(body) },
			"half a chunk":    func(path, body string) string { return head(of.method, path, chunked) + chunk(body)[:len(body)/2+3] },
			"invalid chunk": func(path, body string) string {
				return head(of.method, path, chunked) + chunk(body) + "zz\r\nx\r\n0\r\n\r\n"
			},
			"endless chunk": func(path, body string) string { return head(of.method, path, chunked) + "fffffffffffffffff\r\n" + body },
			"two lengths": func(path, body string) string {
				return head(of.method, path, length(len(body)), length(len(body)+1)) + body
			},
			"negative length": func(path, body string) string { return head(of.method, path, length(-1)) + body },
			"length of no size": func(path, body string) string {
				return head(of.method, path, "Content-Length: 99999999999999999999") + body
			},
			"unknown encoding": func(path, body string) string { return head(of.method, path, "Transfer-Encoding: gzip") + body },
		} {
			n++
			path, body := strings.ReplaceAll(of.path, "%d", fmt.Sprint(n)), strings.ReplaceAll(of.body, "%d", fmt.Sprint(n))
			for _, status := range raw(t, s, request(path, body), 0) {
				assert.True(t, status >= 400 && status < 500 || status == http.StatusNotImplemented, "%s, %s: %d", what, how, status)
			}
		}
	}
	list, err := c.ListEvidence(t.Context(), "fog")
	require.NoError(t, err)
	assert.Empty(t, list)
	cases, err := c.Cases(t.Context())
	require.NoError(t, err)
	assert.Len(t, cases, 1)
	entries, err := c.Custody(t.Context(), "fog", 0, false, "")
	require.NoError(t, err)
	require.Len(t, entries, 1, "opened the case")

	// Whole ones, several on one connection, also in chunks.
	whole := head("PUT", "/api/cases/fog/evidence/whole", length(len(logText))) + logText
	parts := head("PUT", "/api/cases/fog/evidence/whole", chunked) + chunk(logText[:10]) + chunk(logText[10:]) + "0\r\n\r\n"
	assert.Equal(t, []int{201, 200, 200, 200}, raw(t, s, whole+whole+parts+parts, 4))
	list, err = c.ListEvidence(t.Context(), "fog")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.EqualValues(t, len(logText), list[0].Bytes)
	entries, err = c.Custody(t.Context(), "fog", 0, false, "")
	require.NoError(t, err)
	assert.Len(t, entries, 2)
}
