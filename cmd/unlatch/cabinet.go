package main

import (
	"context"
	"errors"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/release"
	"unlatch/demo"
	"unlatch/jobs"
	"unlatch/store"
)

// cabinetFolder is where the demo's worker at the crossing keeps its key and its status, within the demo's data folder.
const cabinetFolder = "crossing"

// startCabinet runs a worker of its own for the crossing, as one would stand in a cabinet there: it has its own process and folder, is
// paired with this server, and reaches it over the server's port alone. It is paired once.
func (s *services) startCabinet(ctx context.Context, p *place, listens string) error {
	at, err := url.Parse("http://" + listens)
	if err != nil {
		return err
	}
	if host, err := netip.ParseAddrPort(at.Host); err == nil && host.Addr().IsUnspecified() {
		at.Host = netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), host.Port()).String()
	}
	if _, err := jobs.ReadServer(at.String()); err != nil {
		return nil // the server is not to be reached from here without TLS: its own worker goes to the crossing
	}
	data := filepath.Join(p.data, cabinetFolder)
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	path := filepath.Join(data, identityFile)
	i, err := pairing.ReadIdentity(path)
	switch {
	case errors.Is(err, pairing.ErrNotPaired):
		i = pairing.NewIdentity(at.String(), "")
		if i.Worker, err = s.pairCabinet(ctx, i); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	i.Server = at.String() // the demo may listen elsewhere than last time
	if err := i.Write(path); err != nil {
		return err
	}
	return s.runCabinet(ctx, data)
}

// pairCabinet pairs the worker at the crossing in the name of whoever keeps the demo, and returns its ID.
func (s *services) pairCabinet(ctx context.Context, i pairing.Identity) (string, error) {
	by, err := s.Store.People.ByName(ctx, demoPerson)
	if err != nil {
		return "", err
	}
	site, err := demo.Crossing(ctx, s.Store)
	if err != nil {
		return "", err
	}
	request, err := s.Store.Paired.AskAtHand(ctx, store.Pairing{Key: i.Key().Public(), Recipient: i.Recipient(),
		Machine: machineName(), Version: release.Version})
	if err != nil {
		return "", err
	}
	// The railway's sign-ins are for every site.
	pair := act.PairWorker{ID: uuid.Must(uuid.NewV7()), Request: request, Key: i.Key().Public(), Recipient: i.Recipient(),
		Name: "Cabinet at the crossing", Machine: machineName(), Version: release.Version, Shared: true,
		Sites: []uuid.UUID{site.ID}, Names: []string{site.Name}}
	_, err = jobs.Desk{Store: s.Store, Queue: s.Queue}.Do(ctx, by.Person, pair)
	return pair.ID.String(), err
}

// runCabinet starts the worker, which ends with the demo.
func (s *services) runCabinet(ctx context.Context, data string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(data, "worker.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	ctx, cancel := context.WithCancel(ctx)
	cmd := exec.CommandContext(ctx, self, "worker", "--data", data)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 15 * time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	started, ended := make(chan error, 1), make(chan struct{})
	go func() {
		// The death signal comes when the thread that started the worker ends, so it must live as long.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		defer close(ended)
		err := cmd.Start()
		started <- err
		if err == nil {
			cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		cancel()
		return err
	}
	s.closers = append(s.closers, func() { cancel(); <-ended })
	return nil
}
