package httpapi

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// An upload that stands still or crawls ends; one that goes on, with pauses, does not.
func TestPaced(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		parts int
		bytes int
		wait  time.Duration
		want  string
	}{
		"steady":       {20, 4096, 20 * time.Millisecond, ""},
		"stands still": {2, 4096, time.Second, "stood still"},
		"crawls":       {100, 1, 10 * time.Millisecond, "too slow"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got := make(chan error, 1)
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				p := newPaced(w, r)
				p.pause = 250 * time.Millisecond
				_, err := io.Copy(io.Discard, p)
				got <- err
			}))
			t.Cleanup(s.Close)
			c, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
			require.NoError(t, err)
			defer c.Close()
			fmt.Fprintf(c, "PUT / HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n", x.parts*x.bytes)
			go func() {
				w := bufio.NewWriter(c)
				for range x.parts {
					if _, err := w.WriteString(strings.Repeat("x", x.bytes)); err != nil || w.Flush() != nil {
						return
					}
					time.Sleep(x.wait)
				}
			}()
			err = <-got
			if x.want == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorIs(t, err, fault.CutOff)
			assert.Contains(t, err.Error(), x.want)
		})
	}
}
