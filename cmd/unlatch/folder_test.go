package main

import (
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store/storetest"
)

// mounted makes a folder on a file system of its own.
func mounted(t *testing.T, options string, flags uintptr) string {
	t.Helper()
	dir, err := storetest.Dir()
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := syscall.Mount("tmpfs", dir, "tmpfs", flags, options); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// A data folder that cannot be written to is told with what to do about it, whatever the reason.
func TestDataFoldersThatCannotBeUsed(t *testing.T) {
	serve := []string{"serve", "--listen", "127.0.0.1:0", "--data"}
	t.Run("read-only", func(t *testing.T) {
		dir := mounted(t, "size=1m,mode=0755", syscall.MS_RDONLY)
		code, _, complaint := unlatch("", append(serve, dir)...)
		assert.Equal(t, exitNo, code)
		assert.Contains(t, complaint, "its disk is mounted read-only")
	})
	t.Run("full", func(t *testing.T) {
		dir := mounted(t, "size=256k,mode=0755", 0)
		code, _, complaint := unlatch("", append(serve, dir)...)
		assert.Equal(t, exitNo, code)
		assert.Contains(t, complaint, "No space left on device")
		assert.NoFileExists(t, filepath.Join(dir, "pg", "PG_VERSION"), "no half of a database is left")
	})
	t.Run("somebody else's", func(t *testing.T) {
		if os.Geteuid() != 0 {
			t.Skip("this is not run by root")
		}
		dir, err := storetest.Dir()
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		program := filepath.Join(dir, "unlatch")
		copyFile(t, "/proc/self/exe", program)
		data := filepath.Join(dir, "data")
		require.NoError(t, os.Mkdir(data, 0o700))
		ctx, stop := context.WithTimeout(t.Context(), time.Minute)
		defer stop()
		cmd := exec.CommandContext(ctx, program, append(serve, data)...)
		cmd.Env = []string{asProgram + "=1", "PATH=" + os.Getenv("PATH")}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, err := cmd.CombinedOutput()
		assert.Error(t, err)
		assert.Contains(t, string(out), "it belongs to somebody else")
	})
}

func copyFile(t *testing.T, from, to string) {
	t.Helper()
	in, err := os.Open(from)
	require.NoError(t, err)
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY, 0o755)
	require.NoError(t, err)
	_, err = io.Copy(out, in)
	require.NoError(t, err)
	require.NoError(t, out.Close())
}
