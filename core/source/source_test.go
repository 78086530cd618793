package source

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wraithology/core/fault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func write(t *testing.T, path, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

func git(t *testing.T, dir string, args ...string) string {
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Ines", "-c", "user.email=ines@gannet.example"}, args...)...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

// Text is found by the longest end of a path, by a map of paths, and in a
// repository as it was at the revision, whatever the files are now.
func TestText(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "gate.c"), "short")
	write(t, filepath.Join(dir, "lock/gate.c"), "long")
	p := Places{Folders: []string{dir}}
	for path, want := range map[string]string{"/build/harbour/lock/gate.c": "long", "/build/gate.c": "short", "gate.c": "short", "/build/../../lock/gate.c": "long"} {
		text, err := p.Text(ctx, path)
		require.NoError(t, err, path)
		assert.Equal(t, want, text, path)
	}
	_, err := p.Text(ctx, "/build/quay.c")
	assert.ErrorIs(t, err, fault.NoSource)
	text, err := Places{Paths: map[string]string{"/build/harbour": dir}}.Text(ctx, "/build/harbour/gate.c")
	require.NoError(t, err)
	assert.Equal(t, "short", text)
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(dir, "out.c")))
	_, err = p.Text(ctx, "/build/out.c")
	assert.Error(t, err, "a link does not lead out of the folder")
	_, err = p.Text(ctx, "/etc/hostname")
	assert.Error(t, err, "this machine's own files are not looked at")

	repository := t.TempDir()
	git(t, repository, "init", "-q")
	write(t, filepath.Join(repository, "tide/book.go"), "then")
	git(t, repository, "add", ".")
	git(t, repository, "commit", "-qm", "first")
	revision := git(t, repository, "rev-parse", "HEAD")
	write(t, filepath.Join(repository, "tide/book.go"), "now")
	text, err = Places{Folders: []string{repository}, Revision: revision}.Text(ctx, "/home/ines/harbour/tide/book.go")
	require.NoError(t, err)
	assert.Equal(t, "then", text)
}

// Archives unpack into their folder, whatever their names say; other files are
// refused, and leave nothing.
func TestUnpack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "in/tide/book.go"), "package tide")
	for _, cmd := range [][]string{
		{"tar", "-C", dir, "-czf", filepath.Join(dir, "a.tar.gz"), "in"},
		{"tar", "-C", filepath.Join(dir, "in"), "-czPf", filepath.Join(dir, "out.tar.gz"), "--transform", "s,^,../../,", "tide/book.go"},
	} {
		require.NoError(t, exec.Command(cmd[0], cmd[1:]...).Run())
	}
	require.NoError(t, Unpack(context.Background(), filepath.Join(dir, "a.tar.gz"), filepath.Join(dir, "a")))
	text, err := Places{Folders: []string{filepath.Join(dir, "a")}}.Text(context.Background(), "/x/in/tide/book.go")
	require.NoError(t, err)
	assert.Equal(t, "package tide", text)
	require.NoError(t, Unpack(context.Background(), filepath.Join(dir, "out.tar.gz"), filepath.Join(dir, "deep/er/b")))
	_, err = os.Stat(filepath.Join(dir, "deep/er/b/tide/book.go"))
	assert.NoError(t, err, "a name that leads out is kept in")
	write(t, filepath.Join(dir, "text"), "no archive at all")
	assert.ErrorIs(t, Unpack(context.Background(), filepath.Join(dir, "text"), filepath.Join(dir, "c")), fault.InvalidSource)
	_, err = os.Stat(filepath.Join(dir, "c"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}
