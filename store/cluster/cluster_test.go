package cluster

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func folder(t *testing.T) string {
	dir, err := os.MkdirTemp("", "unlatch-cluster-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return filepath.Join(dir, "pg")
}

func TestClusterKeepsItsDataOverAStart(t *testing.T) {
	ctx, dir := context.Background(), folder(t)
	c, err := Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "CREATE TABLE kept AS SELECT 7 AS n")
	require.NoError(t, err)
	conn.Close(ctx)
	c.Stop()
	_, err = pgx.Connect(ctx, c.URL)
	require.Error(t, err, "it is really down")

	c, err = Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	defer c.Stop()
	conn, err = pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var n int
	require.NoError(t, conn.QueryRow(ctx, "SELECT n FROM kept").Scan(&n))
	assert.Equal(t, 7, n)
	secret, err := os.Stat(dir + ".secret")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), secret.Mode().Perm())
}

func TestBrokenFoldersAreSaidWithAFix(t *testing.T) {
	ctx := context.Background()
	var folderErr *FolderError
	foreign := folder(t)
	require.NoError(t, os.MkdirAll(foreign, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(foreign, "holiday.txt"), nil, 0o644))
	_, err := Start(ctx, Options{Dir: foreign})
	require.ErrorAs(t, err, &folderErr)
	assert.ErrorContains(t, err, "mv "+foreign)
	assert.ErrorContains(t, err, "&& mv "+foreign+".secret", "its password goes with it")

	damaged := folder(t)
	c, err := Start(ctx, Options{Dir: damaged, Scratch: true})
	require.NoError(t, err)
	c.Stop()
	require.NoError(t, os.RemoveAll(filepath.Join(damaged, "global")))
	_, err = Start(ctx, Options{Dir: damaged})
	require.ErrorAs(t, err, &folderErr)
	require.NoError(t, os.Remove(damaged+".secret"))
	_, err = Start(ctx, Options{Dir: damaged})
	assert.ErrorContains(t, err, "password file")
}

// A server that is killed is started again at the same address, and the folder is checked for rot.
func TestAKilledServerComesBack(t *testing.T) {
	ctx := context.Background()
	var log strings.Builder
	c, err := Start(ctx, Options{Dir: folder(t), Scratch: true, Log: slog.New(slog.NewTextHandler(&locked{w: &log}, nil))})
	require.NoError(t, err)
	defer c.Stop()
	first := c.Process()
	require.NoError(t, syscall.Kill(first, syscall.SIGKILL))
	require.Eventually(t, func() bool { pid := c.Process(); return pid != 0 && pid != first }, 30*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		conn, err := pgx.Connect(ctx, c.URL)
		if err != nil {
			return false
		}
		defer conn.Close(ctx)
		var on string
		return conn.QueryRow(ctx, "SHOW data_checksums").Scan(&on) == nil && on == "on"
	}, 30*time.Second, 50*time.Millisecond)
	c.Stop()
	assert.Zero(t, c.Process(), "what was stopped stays so")
}

// locked writes one at a time.
type locked struct {
	mu sync.Mutex
	w  io.Writer
}

func (l *locked) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(b)
}

// The number in a stale postmaster.pid may belong to anybody: here to a process that would end by a signal.
func TestAStalePidFileHarmsNobody(t *testing.T) {
	ctx, dir := context.Background(), folder(t)
	c, err := Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	c.Stop()
	other := exec.Command("sleep", "600")
	require.NoError(t, other.Start())
	ended := make(chan struct{})
	go func() { other.Wait(); close(ended) }()
	defer func() { other.Process.Kill(); <-ended }()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "postmaster.pid"), fmt.Appendf(nil, "%d\n%s\n", other.Process.Pid, dir), 0o600))
	c, err = Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	defer c.Stop()
	select {
	case <-ended:
		t.Fatal("another process was signalled")
	default:
	}
	assert.NoError(t, syscall.Kill(other.Process.Pid, 0))
}

// A folder that was moved away without its password leaves the password behind: it is kept beside the new one.
func TestAnOldPasswordIsNotOverwritten(t *testing.T) {
	ctx, dir := context.Background(), folder(t)
	require.NoError(t, os.WriteFile(dir+".secret", []byte("the only way in"), 0o600))
	c, err := Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	defer c.Stop()
	kept, err := filepath.Glob(dir + ".secret.before-*")
	require.NoError(t, err)
	require.Len(t, kept, 1)
	raw, err := os.ReadFile(kept[0])
	require.NoError(t, err)
	assert.Equal(t, "the only way in", string(raw))
}

// The database does not tell systemd that the service is ready: that is for the program to say.
func TestTheDatabaseTellsSystemdNothing(t *testing.T) {
	path := filepath.Join(filepath.Dir(folder(t)), "notify") // which its user can reach
	heard, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer heard.Close()
	require.NoError(t, os.Chmod(path, 0o777))
	t.Setenv("NOTIFY_SOCKET", path)
	c, err := Start(context.Background(), Options{Dir: folder(t), Scratch: true})
	require.NoError(t, err)
	c.Stop()
	require.NoError(t, heard.SetReadDeadline(time.Now().Add(300*time.Millisecond)))
	b := make([]byte, 100)
	n, err := heard.Read(b)
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "it was told %q", b[:n])
}
