package e2e

import (
	"io"
	"net"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"

	"wraithology/api"
)

// A slowUpload is an upload whose bytes come when the test writes them.
type slowUpload struct {
	io.WriteCloser
	status chan int // 0 if the connection broke
}

// uploadSlowly begins an upload of evidence and waits until the service reads it.
func uploadSlowly(t *testing.T, s *service, p person, path string) slowUpload {
	token, err := s.signedIn(t, p).SignIn(t.Context(), api.Credentials{Name: p.name, Password: p.password}, "slow")
	require.NoError(t, err)
	out, in := io.Pipe()
	t.Cleanup(func() { _ = in.Close() })
	r, err := http.NewRequest("PUT", s.url+path, out)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token.Secret)
	u := slowUpload{in, make(chan int, 1)}
	go func() {
		response, err := (&http.Transport{WriteBufferSize: 1}).RoundTrip(r)
		if err != nil {
			_ = out.CloseWithError(err)
			u.status <- 0
			return
		}
		response.Body.Close()
		u.status <- response.StatusCode
	}()
	for range 20 { // more than the buffers between here and there
		_, err = in.Write([]byte(strings.Repeat(pilotsLog, 200)))
		require.NoError(t, err)
	}
	time.Sleep(200 * time.Millisecond)
	return u
}

// refuses waits until a service takes no new connections.
func (s *service) refuses(t *testing.T) {
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
		if err == nil {
			_ = c.Close()
		}
		return err != nil
	}, 10*time.Second, 10*time.Millisecond)
}

// A service that is told to stop takes nothing new, by HTTP or gRPC, and finishes the uploads under way.
func TestStopFinishesUploads(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := startWith(t, []string{"--stop-within", "2m"}, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "fog")
	u := uploadSlowly(t, s, ines, "/api/cases/fog/evidence/slow")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	s.refuses(t)
	connection, err := grpc.NewClient(s.grpc, grpc.WithTransportCredentials(insecure.NewCredentials()))
	require.NoError(t, err)
	defer connection.Close()
	require.Eventually(t, func() bool {
		_, err := collector.NewTraceServiceClient(connection).Export(t.Context(), &collector.ExportTraceServiceRequest{})
		return err != nil && strings.Contains(err.Error(), "connection refused")
	}, 20*time.Second, 50*time.Millisecond)
	select {
	case <-s.ended:
		t.Fatal("the service ended although somebody uploads")
	default:
	}
	_, err = u.Write([]byte(pilotsLog))
	require.NoError(t, err)
	require.NoError(t, u.Close())
	assert.Equal(t, http.StatusCreated, <-u.status)
	<-s.ended
	assert.Zero(t, s.cmd.ProcessState.ExitCode())
	s.run(t)
	ines.signIn(t, s.url)
	ines.settled(t, "fog")
	assert.Contains(t, ines.fine(t, "evidence", "fog"), "berth is too shallow")
}

// A second signal ends the process at once, and so does the end of the time to stop in: what was under way leaves nothing.
func TestStopDoesNotWaitForEver(t *testing.T) {
	t.Parallel()
	for name, within := range map[string]string{"second signal": "10m", "end of the time": "1s"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ines := somebody(t, "Ines")
			s := startWith(t, []string{"--stop-within", within}, ines)
			ines.signIn(t, s.url)
			ines.fine(t, "case", "open", "fog")
			u := uploadSlowly(t, s, ines, "/api/cases/fog/evidence/slow")
			require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
			s.refuses(t)
			if within == "10m" {
				require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
			}
			select {
			case <-s.ended:
			case <-time.After(20 * time.Second):
				t.Fatal("the service waits")
			}
			assert.NotZero(t, s.cmd.ProcessState.ExitCode())
			_ = u.Close()
			assert.NotEqual(t, http.StatusCreated, <-u.status)
			s.run(t)
			ines.signIn(t, s.url)
			assert.NotContains(t, ines.fine(t, "evidence", "fog"), "slow")
		})
	}
}
