// Package cluster runs a PostgreSQL server of the product's own: its own data folder, its own loopback port, started
// and ended with the program. The system's cluster is never touched.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// database and role are the names within the cluster.
const database = "unlatch"

// Options of a cluster.
type Options struct {
	Dir string // data folder; made when it does not exist
	// Scratch gives up safety over a power cut for speed; for tests.
	Scratch bool
	// Log is told when the server has ended by itself and is started again; nil for nobody.
	Log *slog.Logger
}

// A Cluster is a running server.
type Cluster struct {
	URL string // postgres://... with the password

	opt     Options
	as      *syscall.Credential
	port    int
	secret  string
	mu      sync.Mutex
	process *process
	stopped chan struct{} // closed by Stop
}

// A FolderError means that the data folder cannot be used.
type FolderError struct {
	Dir    string
	Detail string
}

func (e *FolderError) Error() string {
	aside := e.Dir + ".broken-" + time.Now().UTC().Format("20060102-150405")
	return fmt.Sprintf("the database folder %[1]s cannot be started: %[2]s.\nTo begin with an empty one, put it aside together with its "+
		"password: mv %[1]s %[3]s && mv %[1]s.secret %[3]s.secret", e.Dir, e.Detail, aside)
}

// Start makes the cluster if need be and starts it.
func Start(ctx context.Context, opt Options) (*Cluster, error) {
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	c := &Cluster{opt: opt, stopped: make(chan struct{})}
	var err error
	if c.as, err = runAs(opt.Dir); err != nil {
		return nil, err
	}
	if err := c.prepare(ctx); err != nil {
		return nil, err
	}
	if c.port, err = freePort(); err != nil {
		return nil, err
	}
	c.URL = fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s", database, c.secret, c.port, database)
	if err := c.Resume(ctx); err != nil {
		return nil, err
	}
	if err := c.createDatabase(ctx); err != nil {
		c.Stop()
		return nil, err
	}
	go c.supervise()
	return c, nil
}

// Running returns the URL of the cluster in a folder, where its server runs already: that of another process.
func Running(dir string) (url string, ok bool) {
	secret, err := os.ReadFile(dir + ".secret")
	if err != nil {
		return "", false
	}
	raw, err := os.ReadFile(filepath.Join(dir, "postmaster.pid")) // of its lines the fourth is the port
	if lines := strings.Split(string(raw), "\n"); err == nil && len(lines) > 3 {
		if port, err := strconv.Atoi(strings.TrimSpace(lines[3])); err == nil {
			return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s", database, strings.TrimSpace(string(secret)), port, database), true
		}
	}
	return "", false
}

// supervise starts the server again when it has ended and nobody has asked for that, and waits longer each time that it does not last.
func (c *Cluster) supervise() {
	const least, most, lasting = 200 * time.Millisecond, 30 * time.Second, time.Minute
	wait := least
	for {
		c.mu.Lock()
		p := c.process
		c.mu.Unlock()
		began := time.Now()
		if p == nil { // paused
			select {
			case <-c.stopped:
				return
			case <-time.After(least):
			}
			continue
		}
		select {
		case <-c.stopped:
			return
		case <-p.done:
		}
		c.mu.Lock()
		mine := c.process == p
		if mine {
			c.process = nil
		}
		c.mu.Unlock()
		if !mine {
			continue // Pause has ended it
		}
		if time.Since(began) > lasting {
			wait = least
		}
		c.opt.Log.Warn("the database has ended by itself; starting it again", "folder", c.opt.Dir, "its last words", lastLine(p.words()),
			"in", wait)
		for again := false; !again; wait = min(wait*2, most) {
			select {
			case <-c.stopped:
				return
			case <-time.After(wait):
			}
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			err := c.Resume(ctx)
			cancel()
			if again = err == nil; !again {
				c.opt.Log.Error("the database cannot be started", "err", err, "again in", wait)
			}
		}
	}
}

// words returns what the server has said.
func (p *process) words() []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	return bytes.Clone(p.log.Bytes())
}

// runAs finds the user to run the server on a folder as: PostgreSQL refuses to run as root. A folder that holds a cluster belongs to its
// user already.
func runAs(dir string) (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	if info, err := os.Stat(filepath.Join(dir, "PG_VERSION")); err == nil {
		if sys, ok := info.Sys().(*syscall.Stat_t); ok && sys.Uid != 0 {
			return &syscall.Credential{Uid: sys.Uid, Gid: sys.Gid}, nil
		}
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("PostgreSQL is not installed (there is no user postgres); run: apt-get install postgresql")
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// binary finds a program of the newest installed PostgreSQL.
func binary(name string) (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	slices.SortFunc(found, func(a, b string) int { return major(a) - major(b) })
	if len(found) > 0 {
		return found[len(found)-1], nil
	}
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	return "", errors.New("PostgreSQL is not installed; run: apt-get install postgresql")
}

func major(path string) int {
	n, _ := strconv.Atoi(strings.Split(strings.TrimPrefix(path, "/usr/lib/postgresql/"), "/")[0])
	return n
}

func (c *Cluster) command(ctx context.Context, name string, args ...string) (*exec.Cmd, error) {
	path, err := binary(name)
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir = "/"
	// PostgreSQL would tell systemd that the service is ready when it alone is (sd_notify(3)).
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "NOTIFY_SOCKET=") })
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.as}
	return cmd, nil
}

// prepare makes the data folder on the first start and reads its password on later ones.
func (c *Cluster) prepare(ctx context.Context) error {
	secretFile := c.opt.Dir + ".secret"
	if _, err := os.Stat(filepath.Join(c.opt.Dir, "PG_VERSION")); err == nil {
		raw, err := os.ReadFile(secretFile)
		if err != nil {
			return &FolderError{c.opt.Dir, "its password file " + secretFile + " is gone"}
		}
		c.secret = strings.TrimSpace(string(raw))
		return nil
	} else if entries, rerr := os.ReadDir(c.opt.Dir); rerr == nil && len(entries) > 0 {
		return &FolderError{c.opt.Dir, "it holds no PostgreSQL cluster (PG_VERSION is missing)"}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	raw := make([]byte, 16)
	rand.Read(raw)
	c.secret = hex.EncodeToString(raw)
	if err := os.MkdirAll(filepath.Dir(c.opt.Dir), 0o755); err != nil {
		return err
	}
	if err := os.MkdirAll(c.opt.Dir, 0o700); err != nil {
		return err
	}
	// The password of a folder that was put aside without it is kept: it is the only way into that.
	if err := os.Rename(secretFile, secretFile+".before-"+time.Now().UTC().Format("20060102-150405")); err != nil && !errors.Is(err,
		fs.ErrNotExist) {
		return err
	}
	if err := os.WriteFile(secretFile, []byte(c.secret), 0o600); err != nil {
		return err
	}
	return c.initialise(ctx)
}

func (c *Cluster) initialise(ctx context.Context) error {
	pw, err := os.CreateTemp("", "unlatch-pw-*")
	if err != nil {
		return err
	}
	defer os.Remove(pw.Name())
	pw.WriteString(c.secret)
	pw.Close()
	if c.as != nil {
		if err := errors.Join(os.Chown(c.opt.Dir, int(c.as.Uid), int(c.as.Gid)), os.Chown(pw.Name(), int(c.as.Uid), int(c.as.Gid))); err != nil {
			return err
		}
	}
	args := []string{"-D", c.opt.Dir, "-U", database, "-A", "scram-sha-256", "--pwfile", pw.Name(), "-E", "UTF8", "--locale=C",
		"--no-instructions", "--data-checksums"}
	if c.opt.Scratch {
		args = append(args, "--no-sync")
	}
	cmd, err := c.command(ctx, "initdb", args...)
	if err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		os.RemoveAll(c.opt.Dir)
		return fmt.Errorf("making the database folder %s: %w: %s", c.opt.Dir, err, reason(out))
	}
	return nil
}

// reason returns the line of a program's words that says why it failed: it tidies up afterwards, and says that too.
func reason(b []byte) string {
	for line := range strings.Lines(string(b)) {
		for _, mark := range []string{"error: ", "FATAL: ", "PANIC: "} {
			if strings.Contains(line, mark) {
				return strings.TrimSpace(line)
			}
		}
	}
	return lastLine(b)
}

func lastLine(b []byte) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return lines[len(lines)-1]
}

func freePort() (int, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// process is the running server; done is closed when it has ended.
type process struct {
	cmd  *exec.Cmd
	done chan struct{}
	log  *bytes.Buffer
	mu   sync.Mutex
}

func (p *process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.log.Len() < 64<<10 {
		p.log.Write(b)
	}
	return len(b), nil
}

// Resume starts the server again after Pause. It returns once the server takes connections.
func (c *Cluster) Resume(ctx context.Context) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.process != nil {
		return nil
	}
	if err := c.endLeftover(); err != nil {
		return err
	}
	args := []string{"-D", c.opt.Dir, "-c", "listen_addresses=127.0.0.1", "-c", fmt.Sprintf("port=%d", c.port),
		"-c", "unix_socket_directories=", "-c", "max_connections=500", "-c", "log_min_messages=fatal", "-c", "shared_buffers=64MB",
		// Statements here are short, and a hardened unit lets nothing make code at run time.
		"-c", "jit=off"}
	if c.opt.Scratch {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	cmd, err := c.command(context.WithoutCancel(ctx), "postgres", args...)
	if err != nil {
		return err
	}
	cmd.SysProcAttr.Pdeathsig = syscall.SIGINT // a killed program leaves no server behind
	cmd.SysProcAttr.Setpgid = true             // Ctrl-C is for the program, which ends the server itself
	p := &process{cmd: cmd, done: make(chan struct{}), log: &bytes.Buffer{}}
	cmd.Stdout, cmd.Stderr = p, p
	started := make(chan error, 1)
	go func() {
		// The death signal comes when the thread that started the server ends, so it must live as long.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			cmd.Wait()
		}
		close(p.done)
	}()
	if err := <-started; err != nil {
		return err
	}
	c.process = p
	return c.ready(ctx, p)
}

func (c *Cluster) ready(ctx context.Context, p *process) error {
	for {
		probe, cancel := context.WithTimeout(ctx, 2*time.Second)
		conn, err := pgx.Connect(probe, strings.TrimSuffix(c.URL, "/"+database)+"/postgres")
		cancel()
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-p.done:
			c.process = nil
			return &FolderError{c.opt.Dir, lastLine(p.words())}
		case <-ctx.Done():
			c.halt()
			return ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// endLeftover waits for a server of an earlier program that is still ending on the same folder. The number in its file may belong to
// somebody else's process by now, which is left alone.
func (c *Cluster) endLeftover() error {
	pidFile := filepath.Join(c.opt.Dir, "postmaster.pid")
	for i := 0; ; i++ {
		raw, err := os.ReadFile(pidFile)
		if err != nil {
			return nil
		}
		pid, _ := strconv.Atoi(strings.SplitN(string(raw), "\n", 2)[0])
		if pid <= 0 || syscall.Kill(pid, 0) != nil {
			return nil // left by a crash; the server removes it
		}
		if !serves(pid, c.opt.Dir) {
			return os.Remove(pidFile) // the server would take the other process for one of its own
		}
		if i == 0 {
			syscall.Kill(pid, syscall.SIGINT)
		}
		if i > 100 {
			return &FolderError{c.opt.Dir, fmt.Sprintf("process %d still uses it", pid)}
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// serves reports whether a process is a PostgreSQL server on a folder: it works in it (proc(5)). Where that cannot be told it is taken
// for one.
func serves(pid int, dir string) bool {
	at, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		_, perr := os.Stat("/proc/self")
		return perr != nil
	}
	real, err := filepath.EvalSymlinks(dir)
	return err == nil && at == real
}

func (c *Cluster) createDatabase(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, strings.TrimSuffix(c.URL, "/"+database)+"/postgres")
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var exists bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)",
		database).Scan(&exists); err != nil || exists {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+database)
	return err
}

// Pause stops the server and keeps the port; Resume starts it again. It is how tests take the database away.
func (c *Cluster) Pause() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.halt()
}

func (c *Cluster) halt() {
	if c.process == nil {
		return
	}
	c.process.cmd.Process.Signal(syscall.SIGINT) // fast shutdown
	<-c.process.done
	c.process = nil
}

// Stop ends the server for good and waits for it.
func (c *Cluster) Stop() {
	c.mu.Lock()
	select {
	case <-c.stopped:
	default:
		close(c.stopped)
	}
	c.mu.Unlock()
	c.Pause()
}

// Process returns the number of the server's process, 0 while there is none.
func (c *Cluster) Process() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.process == nil {
		return 0
	}
	return c.process.cmd.Process.Pid
}

// Reachable returns dir, or where the server's user cannot get into the folders above it, a folder of its own elsewhere that
// belongs to dir: PostgreSQL runs as a user of its own, and a home folder may be shut to it.
func Reachable(dir string) string {
	as, err := runAs(dir)
	if _, serr := os.Stat(filepath.Join(dir, "PG_VERSION")); err != nil || as == nil || serr == nil {
		return dir
	}
	for d := filepath.Dir(dir); ; d = filepath.Dir(d) {
		if info, err := os.Stat(d); err == nil && info.Mode().Perm()&0o001 == 0 {
			sum := sha256.Sum256([]byte(dir))
			return filepath.Join("/var/tmp", "unlatch-"+hex.EncodeToString(sum[:6]), "pg")
		}
		if d == filepath.Dir(d) {
			return dir
		}
	}
}
