package journal

import (
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A disk takes so many bytes more, and then a part of what is written.
type disk struct {
	file
	room int
}

func (d *disk) WriteAt(p []byte, off int64) (int, error) {
	n, err := d.file.WriteAt(p[:min(len(p), d.room)], off)
	d.room -= n
	if err == nil && n < len(p) {
		err = syscall.ENOSPC
	}
	return n, err
}

// What a full disk does not take is left out whole, and says so. What was kept stays, and once there is room again the journal goes on.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "away")
	j, _, err := Open(path, []byte("a"), 1<<20)
	require.NoError(t, err)
	defer j.Close()
	entries := func() (out []string) {
		require.NoError(t, j.Each(func(raw []byte) error { out = append(out, string(raw)); return nil }))
		return out
	}
	full := &disk{j.file, 60}
	j.file = full
	require.NoError(t, j.Append([]byte("before")))
	for range 2 {
		require.ErrorIs(t, j.Append([]byte("what the disk does not take")), syscall.ENOSPC)
		assert.Equal(t, []string{"before"}, entries())
		full.room = 7
	}
	full.room = 1000
	require.NoError(t, j.Append([]byte("after")))
	again, lost, err := Open(path, []byte("a"), 1<<20)
	require.NoError(t, err)
	defer again.Close()
	assert.Zero(t, lost)
	j = again
	assert.Equal(t, []string{"before", "after"}, entries())
}
