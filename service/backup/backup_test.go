package backup_test

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/service"
	"wraithology/service/backup"
	"wraithology/service/custody"
	"wraithology/service/receive"
	"wraithology/service/store"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

func options(t *testing.T) service.Options {
	return service.Options{Data: filepath.Join(t.TempDir(), "data"), Listen: "127.0.0.1:0", Settle: receive.Settle{Quiet: time.Hour}, Database: clustertest.Database(t), Log: slog.New(slog.DiscardHandler)}
}

func start(t *testing.T, o service.Options) *service.Service {
	t.Helper()
	s, err := service.Start(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop(context.Background()) })
	return s
}

func signIn(t *testing.T, s *service.Service) *client.Client {
	t.Helper()
	c := client.New(s.URL, "")
	_, err := c.SignIn(t.Context(), api.Credentials{Name: "Ines", Password: "Ines-secret"}, "test")
	require.NoError(t, err)
	return c
}

const line = `{"time":"2026-03-01T06:00:00Z","level":"INFO","msg":"pilot asked","berth":%d}` + "\n" + `{"time":"2026-03-01T06:00:01Z","level":"ERROR","msg":"berth taken","berth":%d}` + "\n"

// said is all that a case says.
func said(t *testing.T, c *client.Client) string {
	t.Helper()
	var all []any
	add := func(x any, err error) {
		t.Helper()
		require.NoError(t, err)
		all = append(all, x)
	}
	add(client.Ask(t.Context(), c.Evidence("fog", "run"), ask.StackRequest{Place: ask.Place{Moment: 1}, Frames: 9}))
	add(client.Ask(t.Context(), c.Evidence("fog", "run"), ask.ValuesRequest{Place: ask.Place{Moment: 1}, Width: 9}))
	list, err := c.Custody(t.Context(), "fog", 0, false, "")
	add(list[len(list)-6:], err) // before the backup began
	text, err := json.Marshal(all)
	require.NoError(t, err)
	return string(text)
}

// A backup of a service that works meanwhile has all that was acknowledged before it began, and nothing by halves; a service that is restored elsewhere
// answers the same, its records are whole, and what was received and is no evidence yet becomes evidence there.
func TestBackupWhileItRuns(t *testing.T) {
	t.Parallel()
	o := options(t)
	s := start(t, o)
	require.NoError(t, s.Accounts.Add(t.Context(), "Ines", "Ines-secret", false))
	c := signIn(t, s)
	_, err := c.NewCase(t.Context(), api.NewCase{Name: "fog", Title: "Fog"})
	require.NoError(t, err)
	upload := func(name string, n int) {
		_, err := c.Upload(t.Context(), "fog", name, strings.NewReader(fmt.Sprintf(line, n, n)), api.Reading{})
		assert.NoError(t, err)
	}
	upload("run", 3)
	require.Eventually(t, func() bool {
		e, err := c.EvidenceInfo(t.Context(), "fog", "run")
		return err == nil && e.State == api.StateReady
	}, 20*time.Second, 20*time.Millisecond)
	sender, err := c.NewSender(t.Context(), "fog", "pilotd")
	require.NoError(t, err)
	request, err := http.NewRequest("POST", s.URL+receive.LogsPath, strings.NewReader(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"timeUnixNano":"1772344800000000000","body":{"stringValue":"berth asked"}}]}]}]}`))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+sender.Secret)
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.Equal(t, 200, answer.StatusCode)
	for i := range 3 {
		upload(fmt.Sprint("before-", i), 100+i)
	}
	before := said(t, c)

	working, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	var n atomic.Int64
	go func() {
		defer close(done)
		for working.Err() == nil {
			upload(fmt.Sprint("meanwhile-", n.Add(1)), int(n.Load()))
		}
	}()
	require.Eventually(t, func() bool { return n.Load() > 3 }, 20*time.Second, time.Millisecond)
	began := n.Load() - 1
	path := filepath.Join(t.TempDir(), "backup")
	h, err := service.Backup(t.Context(), o, path)
	require.NoError(t, err)
	assert.Equal(t, backup.Format, h.Format)
	during := n.Load()
	stop()
	<-done
	require.NoError(t, s.Stop(context.Background()))
	assert.Greater(t, during, began, "it worked meanwhile")

	other := options(t)
	other.Settle = receive.Settle{Quiet: 50 * time.Millisecond}
	_, err = service.Restore(t.Context(), other, path)
	require.NoError(t, err)
	_, err = service.Restore(t.Context(), other, path)
	require.ErrorIs(t, err, fault.InvalidUse, "the folder is not empty any more")
	restored := start(t, other)
	c = signIn(t, restored)
	assert.Equal(t, before, said(t, c))
	var list []api.EvidenceInfo
	require.Eventually(t, func() bool {
		list, err = c.ListEvidence(t.Context(), "fog")
		if err != nil {
			return false
		}
		received := false
		for _, e := range list {
			if e.State != api.StateReady {
				return false
			}
			received = received || strings.HasPrefix(e.Name, "received-")
		}
		return received
	}, 30*time.Second, 100*time.Millisecond)
	names := map[string]bool{}
	for _, e := range list {
		assert.False(t, names[e.Name], "%s is there twice", e.Name)
		names[e.Name] = true
		var bytes bytes.Buffer
		require.NoError(t, c.Download(t.Context(), "fog", e.Name, &bytes))
		sum := sha256.Sum256(bytes.Bytes())
		assert.Equal(t, e.SHA256, hex.EncodeToString(sum[:]), e.Name)
	}
	for i := int64(1); i <= began; i++ {
		assert.True(t, names[fmt.Sprint("meanwhile-", i)], "acknowledged before the backup began")
	}
	records, err := store.Open(t.Context(), other.Database, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer records.Close()
	b, err := custody.Read(filepath.Join(other.Data, service.CustodyFolder), h.Service)
	require.NoError(t, err)
	found, err := b.Verify(t.Context(), records, func(err error) { assert.NoError(t, err) })
	require.NoError(t, err)
	assert.GreaterOrEqual(t, found.Records, int64(2))
}

// A backup that is cut off, changed, or has files that do not belong into one is refused before anything is restored.
func TestDamagedBackups(t *testing.T) {
	t.Parallel()
	o := options(t)
	s := start(t, o)
	require.NoError(t, s.Accounts.Add(t.Context(), "Ines", "Ines-secret", false))
	dir := t.TempDir()
	path := filepath.Join(dir, "backup")
	_, err := service.Backup(t.Context(), o, path)
	require.NoError(t, err)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	changed := bytes.Clone(text)
	changed[len(changed)/2] ^= 1
	for name, bytes := range map[string][]byte{"cut off": text[:len(text)/2], "empty": nil, "no ZIP": []byte("fog"), "changed": changed, "traversal": with(t, text, "custody/../../x"), "absolute": with(t, text, "/etc/x"), "not listed": with(t, text, "custody/more")} {
		bad := filepath.Join(dir, "bad")
		require.NoError(t, os.WriteFile(bad, bytes, 0o600))
		into := options(t)
		_, err := service.Restore(t.Context(), into, bad)
		assert.ErrorIs(t, err, fault.InvalidBackup, name)
		assert.NoDirExists(t, into.Data, name)
	}
	_, err = service.Restore(t.Context(), options(t), filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = service.Backup(t.Context(), o, filepath.Join(dir, "none", "backup"))
	assert.Error(t, err)
}

// with adds a file to a backup.
func with(t *testing.T, text []byte, name string) []byte {
	t.Helper()
	r, err := zip.NewReader(bytes.NewReader(text), int64(len(text)))
	require.NoError(t, err)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range r.File {
		require.NoError(t, w.Copy(f))
	}
	to, err := w.Create(name)
	require.NoError(t, err)
	_, err = io.WriteString(to, "x")
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}
