package cluster

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMayEnter(t *testing.T) {
	t.Parallel()
	base, err := os.MkdirTemp("", "enter-") // in a folder that all may enter
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	inner := filepath.Join(base, "outer", "inner")
	require.NoError(t, os.MkdirAll(inner, 0o755))
	set := func(outer, in os.FileMode) {
		require.NoError(t, os.Chmod(base, 0o755))
		require.NoError(t, os.Chmod(filepath.Dir(inner), outer))
		require.NoError(t, os.Chmod(inner, in))
	}
	uid, gid := uint32(os.Getuid()), uint32(os.Getgid())
	other, fellow, self := &syscall.Credential{Uid: uid + 1, Gid: gid + 1}, &syscall.Credential{Uid: uid + 1, Gid: gid}, &syscall.Credential{Uid: uid, Gid: gid}
	for _, x := range []struct {
		outer, inner os.FileMode
		as           *syscall.Credential
		may          bool
	}{
		{0o711, 0o711, other, true}, {0o755, 0o700, other, false}, {0o700, 0o755, other, false}, {0o744, 0o711, other, false},
		{0o710, 0o710, fellow, true}, {0o710, 0o700, fellow, false}, {0o701, 0o711, fellow, false},
		{0o700, 0o700, self, true},
	} {
		set(x.outer, x.inner)
		assert.Equal(t, x.may, mayEnter(inner, x.as), "%o, %o as %d:%d", x.outer, x.inner, x.as.Uid, x.as.Gid)
	}
	assert.False(t, mayEnter(filepath.Join(base, "none"), self))
}
