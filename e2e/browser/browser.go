// Package browser drives the real interface in headless Chromium, for the end-to-end tests and for the pictures of the docs.
package browser

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/launcher/flags"
	"github.com/go-rod/rod/lib/proto"
)

// A Browser is a headless Chromium with an empty profile.
type Browser struct {
	*rod.Browser
	launch *launcher.Launcher
}

// Start launches Chromium from Debian's package, without any traffic of its own.
func Start() (*Browser, error) {
	bin := "/usr/bin/chromium"
	if _, err := os.Stat(bin); err != nil {
		return nil, errors.New("the browser Chromium is not installed; run: apt-get install chromium")
	}
	profile, err := os.MkdirTemp("", "unlatch-browser-*")
	if err != nil {
		return nil, err
	}
	l := launcher.New().Bin(bin).Leakless(false).Headless(true).NoSandbox(true).UserDataDir(profile)
	for _, f := range []string{"disable-gpu", "disable-background-networking", "disable-component-update", "disable-sync",
		"no-first-run", "disable-quic", "allow-loopback-in-peer-connection"} {
		l = l.Set(flags.Flag(f))
	}
	url, err := l.Launch()
	if err != nil {
		return nil, err
	}
	b := rod.New().ControlURL(url)
	if err := b.Connect(); err != nil {
		return nil, err
	}
	return &Browser{b, l}, b.IgnoreCertErrors(true) // certificates that the product makes for itself are signed by nobody
}

// Stop ends Chromium and removes its profile.
func (b *Browser) Stop() {
	b.Close()
	b.launch.Kill()
	b.launch.Cleanup()
}

// Page opens an address in a window of a size.
func (b *Browser) Page(url string, width, height int) (*rod.Page, error) {
	p, err := b.Browser.Page(proto.TargetCreateTarget{URL: "about:blank"})
	if err != nil {
		return nil, err
	}
	// The bound of a whole test, for looks that have none of their own.
	p = p.Timeout(8 * time.Minute)
	if err := p.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: width, Height: height, DeviceScaleFactor: 1,
		Mobile: width < 500}); err != nil {
		return nil, err
	}
	return p, p.Navigate(url)
}

// A Server is a running unlatch process.
type Server struct {
	URL    string // http://127.0.0.1:port/
	Output string // what it printed until it served
	cmd    *exec.Cmd
	log    bytes.Buffer // written by the process's end
}

// Log is what a stopped server has logged.
func (s *Server) Log() string { return s.log.String() }

var serves = regexp.MustCompile(`https?://[0-9.:]+/`)

// StartServer runs the built program with arguments and waits until it serves.
func StartServer(args ...string) (*Server, error) {
	root, err := Root()
	if err != nil {
		return nil, err
	}
	s := &Server{cmd: exec.Command(filepath.Join(root, ".unlatch", "bin", "unlatch"), args...)}
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	s.cmd.Stderr = io.MultiWriter(os.Stderr, &s.log)
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w; build it first: ./dev build", err)
	}
	lines := bufio.NewReader(out)
	for {
		line, err := lines.ReadString('\n')
		s.Output += line
		if s.URL == "" {
			s.URL = serves.FindString(line)
		}
		if err != nil {
			s.cmd.Wait()
			return nil, fmt.Errorf("the server ended: %s", s.Output)
		}
		if strings.Contains(line, "Set-up code") || strings.Contains(line, "serves at") {
			go io.Copy(io.Discard, lines)
			return s, nil
		}
	}
}

// Stop asks the server to end, as Ctrl-C does, and waits for it.
func (s *Server) Stop() error {
	s.cmd.Process.Signal(os.Interrupt)
	return s.cmd.Wait()
}

// PID is the server's process.
func (s *Server) PID() int { return s.cmd.Process.Pid }

// Kill ends the server without a warning.
func (s *Server) Kill() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
}

// Root is the top folder of the sources.
func Root() (string, error) {
	dir, err := os.Getwd()
	for err == nil {
		if _, serr := os.Stat(filepath.Join(dir, "go.mod")); serr == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			err = errors.New("run this within the sources")
		}
		dir = filepath.Dir(dir)
	}
	return "", err
}

// Preparing says what the demo behind a page that is signed in still prepares; "" when all is ready.
func Preparing(p *rod.Page) (string, error) {
	doing, err := p.Eval(`async () => (await (await fetch("/api/health")).json()).preparing ?? ""`)
	if err != nil {
		return "", err
	}
	return doing.Value.Str(), nil
}
