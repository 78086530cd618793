package evidence_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/packed"
)

// texts are small evidence of several kinds.
func texts() map[string]string {
	var log, spans strings.Builder
	for i := range 12000 { // several of the blocks that Zstandard packs
		fmt.Fprintf(&log, "{\"time\":\"2026-11-25T10:00:%02d.%03dZ\",\"level\":\"%s\",\"msg\":\"gate %d of %x\"}\n", i/1000, i%1000, []string{"info", "error"}[i/11999], i, i*i*7919)
		fmt.Fprintf(&spans, `{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"%032x","spanId":"%016x","name":"open","startTimeUnixNano":"%d","endTimeUnixNano":"%d"}]}]}]}`+"\n", i+1, i*7919+1, 1790000000000000000+i, 1790000000000001000+i)
	}
	return map[string]string{
		"structured-log": log.String(), "event-trace": spans.String(),
		"crash-text": "panic: gate stuck\n\ngoroutine 1 [running]:\nmain.open(0x3)\n\t/srv/gannet/gate.go:44 +0x1d\n",
	}
}

func pack(t *testing.T, text string) map[string][]byte {
	var g, z bytes.Buffer
	for _, w := range []io.WriteCloser{gzip.NewWriter(&g), func() io.WriteCloser { w, err := zstd.NewWriter(&z); require.NoError(t, err); return w }()} {
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
	}
	return map[string][]byte{"gz": g.Bytes(), "zst": z.Bytes()}
}

// TestPacked answers the same of evidence whether it is packed or not, also from the
// timeline that was kept; what is cut off says so, and keeps what came before.
func TestPacked(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for kind, text := range texts() {
		dir := t.TempDir()
		o := evidence.Options{Timelines: evidence.Timelines{Folder: filepath.Join(dir, "timelines")}}
		peek := func(name string, b []byte) ask.Peek {
			path := filepath.Join(dir, name)
			require.NoError(t, os.WriteFile(path, b, 0o600))
			r, err := kinds.All.Open(ctx, path, o, nil)
			require.NoError(t, err, name)
			again, err := kinds.All.Open(ctx, path, o, func(float64) { assert.Equal(t, "crash-text", kind, "it is not built again") })
			require.NoError(t, err, name)
			p, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.PeekRequest{})
			require.NoError(t, err)
			q, err := ask.Run(ctx, ask.Subject{Recording: again}, ask.PeekRequest{})
			require.NoError(t, err)
			require.Equal(t, p, q)
			return p
		}
		want := peek("plain", []byte(text))
		require.Equal(t, string(kind), want.Evidence.Kind)
		for how, b := range pack(t, text) {
			assert.Equal(t, want, peek(how, b), "%s, %s", kind, how)
			if kind == "crash-text" {
				continue
			}
			cut := peek("cut "+how, b[:len(b)/2])
			assert.Greater(t, cut.Evidence.Moments, int64(100), "%s, %s", kind, how)
			assert.Less(t, cut.Evidence.Moments, want.Evidence.Moments, "%s, %s", kind, how)
			require.NotEmpty(t, cut.Gaps)
			assert.Contains(t, cut.Gaps[0].What, "cut off", "%s, %s", kind, how)
		}
	}
	path := filepath.Join(t.TempDir(), "bad.gz")
	require.NoError(t, os.WriteFile(path, []byte("\x1f\x8b\x08 and no more"), 0o600))
	_, err := kinds.All.Open(ctx, path, evidence.Options{}, nil)
	require.ErrorIs(t, err, fault.Unreadable)
}

// TestUnpackingIsBounded stops at the limit, and when the context ends.
func TestUnpackingIsBounded(t *testing.T) {
	t.Parallel()
	for how, b := range pack(t, strings.Repeat("gate ", 1<<20)) {
		path := filepath.Join(t.TempDir(), how)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		f, err := os.Open(path)
		require.NoError(t, err)
		defer f.Close()
		_, _, err = packed.Unpack(context.Background(), f, packed.Detect(b), t.TempDir(), 1<<20, nil)
		require.ErrorIs(t, err, packed.ErrTooLarge, how)
		ctx, stop := context.WithCancel(context.Background())
		stop()
		_, _, err = packed.Unpack(ctx, f, packed.Detect(b), t.TempDir(), 1<<40, nil)
		require.ErrorIs(t, err, context.Canceled, how)
	}
}

// Packed evidence that uses more of the disk than it may is refused for lack of disk, which is no fault of the evidence, whoever unpacks it; it leaves
// nothing.
func TestPackedBombs(t *testing.T) {
	t.Parallel()
	head := make([]byte, 64)
	copy(head, "\x7fELF\x02\x01\x01")
	head[16], head[18] = 4, 62 // a core dump of x86-64
	packer, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	// Frames of Zstandard can follow each other (RFC 8878, section 3.1).
	zst := append(packer.EncodeAll(head, nil), packer.EncodeAll(bytes.Repeat([]byte{7}, 64<<20), nil)...)
	for name, bomb := range map[string][]byte{"zst": zst, "gz": gzipped(t, append(head, bytes.Repeat([]byte{7}, 64<<20)...)), "zst in gz": gzipped(t, zst)} {
		path := filepath.Join(t.TempDir(), "bomb.core")
		require.NoError(t, os.WriteFile(path, bomb, 0o600))
		for _, as := range []string{"", "core-dump", "structured-log"} {
			folder := t.TempDir()
			_, err := kinds.All.Open(t.Context(), path, evidence.Options{As: as, Timelines: evidence.Timelines{Folder: folder, Lasting: true, Unpacked: 16 << 20}}, nil)
			kind, _ := fault.Of(err)
			if name == "zst in gz" { // only one of them is unpacked
				require.True(t, err == nil || errors.Is(err, fault.Unreadable), "%v", err)
				continue
			}
			require.Equal(t, fault.DiskFull, kind, "%s as %q: %v", name, as, err)
			left, err := filepath.Glob(filepath.Join(folder, "*unpacked*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		}
	}
}

// gzipped packs bytes.
func gzipped(t *testing.T, b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write(b)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}
