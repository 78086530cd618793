package source

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// item is an entry of an archive.
type item struct {
	name, link string
	kind       byte // of a tar archive
	content    string
}

func tarOf(t *testing.T, list []item) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, x := range list {
		h := &tar.Header{Name: x.name, Linkname: x.link, Typeflag: x.kind, Mode: 0o7777}
		if x.kind == tar.TypeReg {
			h.Size = int64(len(x.content))
		}
		require.NoError(t, w.WriteHeader(h))
		if x.kind == tar.TypeReg {
			_, err := w.Write([]byte(x.content))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return b.Bytes()
}

func zipOf(t *testing.T, list []item) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, x := range list {
		h := &zip.FileHeader{Name: x.name, Method: zip.Deflate}
		h.SetMode(0o777)
		if x.kind == tar.TypeSymlink {
			h.SetMode(fs.ModeSymlink | 0o777)
			x.content = x.link
		}
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		if !strings.HasSuffix(x.name, "/") {
			_, err = f.Write([]byte(x.content))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Whatever an archive names, nothing appears outside of its folder, and in it are regular files and folders alone, which only their owner can read; a
// link of it is not followed.
func TestHostileArchives(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(3, 16))
	parts := []string{"..", ".", "", "a", "b", "link", "tide.go", "/", "C:", `..\x`, "a\x1bb", "...", strings.Repeat("n", 300), "\u202e"}
	name := func() string {
		var list []string
		for range 1 + rng.IntN(5) {
			list = append(list, parts[rng.IntN(len(parts))])
		}
		return cmp.Or(strings.TrimRight(strings.Join(list, "/"), "/"), "x")
	}
	kinds := []byte{tar.TypeReg, tar.TypeReg, tar.TypeReg, tar.TypeSymlink, tar.TypeLink, tar.TypeDir, tar.TypeFifo, tar.TypeChar, tar.TypeBlock}
	unpacked := 0
	for range 400 {
		outer := t.TempDir()
		secret := filepath.Join(outer, "secret")
		require.NoError(t, os.WriteFile(secret, []byte("curlew"), 0o600))
		list := []item{{name: "link", link: []string{outer, "..", "../secret", "/etc"}[rng.IntN(4)], kind: tar.TypeSymlink}}
		for range 1 + rng.IntN(8) {
			list = append(list, item{name: name(), link: name(), kind: kinds[rng.IntN(len(kinds))], content: "written"})
		}
		archive := filepath.Join(outer, "archive")
		bytes := tarOf(t, list)
		if rng.IntN(2) == 0 {
			bytes = zipOf(t, list)
		}
		require.NoError(t, os.WriteFile(archive, bytes, 0o600))
		into := filepath.Join(outer, "in", "sources")
		err := Unpack(context.Background(), archive, into)
		if err == nil {
			unpacked++
		} else {
			require.ErrorIs(t, err, fault.InvalidSource, "%v", list)
			assert.NoDirExists(t, into)
		}
		text, err := os.ReadFile(secret)
		require.NoError(t, err)
		require.Equal(t, "curlew", string(text))
		require.NoError(t, filepath.WalkDir(outer, func(path string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			inside := strings.HasPrefix(path, into)
			switch {
			case inside && !d.IsDir():
				info, err := d.Info()
				require.NoError(t, err)
				assert.Zero(t, info.Mode()&^0o666, "%s of %v", path, list)
			case !inside && path != outer && path != secret && path != archive && path != filepath.Dir(into):
				assert.Fail(t, "outside", "%s of %v", path, list)
			}
			return nil
		}))
	}
	assert.Greater(t, unpacked, 50)
}

// What unpacks to more than is allowed ends with an error and leaves nothing: in bytes, files, and folders in each other.
func TestArchivesTooLarge(t *testing.T) {
	t.Parallel()
	zeros := strings.Repeat("\x00", 100_000)
	deep := strings.Repeat("d/", maxDepth+1) + "tide.go"
	for name, list := range map[string][]item{"one": {{name: "a", kind: tar.TypeReg, content: zeros + zeros}}, "many": {{name: "a", kind: tar.TypeReg, content: zeros}, {name: "b", kind: tar.TypeReg, content: zeros}}, "deep": {{name: deep, kind: tar.TypeReg, content: "x"}}} {
		for format, b := range map[string][]byte{"tar": tarOf(t, list), "zip": zipOf(t, list)} {
			dir := t.TempDir()
			archive := filepath.Join(dir, "archive")
			require.NoError(t, os.WriteFile(archive, b, 0o600))
			require.ErrorIs(t, unpack(t.Context(), archive, filepath.Join(dir, "in"), 150_000), fault.InvalidSource, "%s, %s", name, format)
			left, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Len(t, left, 1, "%s, %s", name, format)
			if name != "deep" {
				require.NoError(t, unpack(t.Context(), archive, filepath.Join(dir, "in"), 200_000), fmt.Sprint(name, format))
			}
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	archive := filepath.Join(t.TempDir(), "archive")
	require.NoError(t, os.WriteFile(archive, tarOf(t, []item{{name: "a", kind: tar.TypeReg, content: zeros}}), 0o600))
	require.ErrorIs(t, Unpack(ctx, archive, archive+".in"), context.Canceled)
}
