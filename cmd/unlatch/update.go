package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"unlatch/core/ground/program"
	"unlatch/core/ground/release"
	"unlatch/jobs"
	"unlatch/store"
)

// errNewProgram ends a worker so that the program which it was told to take begins in its place.
var errNewProgram = errors.New("another program begins in place of this one")

// startedAs tells a program, in its environment, that it was handed to the machine and started by the one that is installed there, and as
// which version.
const startedAs = "UNLATCH_STARTED_AS"

// Of looking whether a paired worker shall update itself.
const (
	updateEvery = 10 * time.Second
	updateTime  = 30 * time.Minute // for a program of many megabytes over a slow line
)

// An updating has a paired worker take the program that its server tells it to, where that is signed by whom this machine trusts.
type updating struct {
	folder program.Folder
	log    *slog.Logger
	up     *jobs.Uplink
	works  atomic.Bool // this program has come to work
	far    func(ctx context.Context) (*store.FarUpdates, error)
}

// newUpdating prepares a worker for updates. Where the machine was handed a program before, that one begins, and newUpdating does not
// return. key is what programs are signed with; "" trusts none.
func newUpdating(data, key string, log *slog.Logger) (*updating, error) {
	u := &updating{folder: program.Folder{Path: filepath.Join(data, "program")}, log: log}
	u.far = func(ctx context.Context) (*store.FarUpdates, error) { return store.DialUpdates(ctx, u.up.Dial) }
	if key == "" {
		return u, nil
	}
	var err error
	if u.folder.Trusted, err = program.ReadTrusted(key); err != nil {
		return nil, usageError{fmt.Errorf("--update-key: %w", err)}
	}
	if os.Getenv(startedAs) == "" {
		if err := u.become(); err != nil { // a machine in a cabinet works as well as it can
			log.Error("the program that this machine was handed cannot begin; the one that is installed works", "err", err)
		}
	}
	return u, nil
}

// become replaces this program, in its process, by the one that the machine was handed. It returns nil where there is none, and an error
// where that one cannot begin.
func (u *updating) become() error {
	path, version, err := u.folder.Program(release.Version)
	if err != nil || path == "" {
		return err
	}
	if path, err = filepath.Abs(path); err != nil {
		return err
	}
	if err := u.folder.Started(); err != nil {
		return err
	}
	u.log.Info("the program that this machine was handed begins", "version", version)
	for range 10 {
		// Another process may hold the file open that was written just now.
		if err = syscall.Exec(path, os.Args, append(environment(), startedAs+"="+version)); !errors.Is(err, syscall.ETXTBSY) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

// environment is that of this program, without what started it.
func environment() []string {
	return slices.DeleteFunc(os.Environ(), func(s string) bool { return strings.HasPrefix(s, startedAs+"=") })
}

// watch looks whether this worker is told to update itself until ctx ends; stop is called with errNewProgram when it has.
func (u *updating) watch(ctx context.Context, stop context.CancelCauseFunc) {
	for wait := time.Second; ; wait = updateEvery {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if !u.up.State().Connected {
			continue
		}
		if err := u.look(ctx); errors.Is(err, errNewProgram) {
			stop(err)
			return
		} else if err != nil && ctx.Err() == nil {
			u.log.Warn("whether this worker is to be updated is not known", "err", err)
		}
	}
}

// look tells how an update went, and takes the program that this worker is told to; its error is errNewProgram when it has.
func (u *updating) look(ctx context.Context) error {
	ctx, done := context.WithTimeout(ctx, updateTime)
	defer done()
	far, err := u.far(ctx)
	if err != nil {
		return err
	}
	defer far.Close()
	if failed := u.folder.Failed(); failed != "" {
		if err := far.Say(ctx, failed, store.UpdateFailed, fmt.Sprintf("It was started %d times and never came to work, so version %s works "+
			"again.", program.MostStarts, release.Version)); err != nil {
			return err
		}
		if err := u.folder.Told(); err != nil {
			return err
		}
	}
	if as := os.Getenv(startedAs); as != "" && u.works.Load() && !u.folder.Worked() {
		if err := far.Say(ctx, as, store.UpdateDone, ""); err != nil {
			return err
		}
		if err := u.folder.Works(); err != nil {
			return err
		}
	}
	version, err := far.Told(ctx)
	if err != nil || version == "" {
		return err
	}
	problem, err := u.take(ctx, far, version)
	switch {
	case problem != nil:
		u.log.Error("an update is not taken", "version", version, "why", problem)
		return far.Say(ctx, version, store.UpdateFailed, problem.Error())
	case err != nil:
		return errors.Join(err, far.Say(ctx, version, store.UpdateTold, "It is tried again: "+err.Error()))
	}
	if err := far.Say(ctx, version, store.UpdateTaken, ""); err != nil {
		return err
	}
	return errNewProgram
}

// take takes a program. problem is why it is not taken, err what may be otherwise the next time.
func (u *updating) take(ctx context.Context, far *store.FarUpdates, version string) (problem, err error) {
	if len(u.folder.Trusted) == 0 {
		return errors.New("this machine trusts nobody's programs: update-key is not in the settings of its worker"), nil
	}
	if !program.Newer(version, release.Version) {
		return fmt.Errorf("it runs version %s already", release.Version), nil
	}
	if _, there, err := u.folder.Program(release.Version); err == nil && there == version {
		return nil, nil // it was taken before, and that could not be told
	}
	id, head, err := far.Head(ctx, version, runtime.GOOS, runtime.GOARCH)
	if err != nil {
		return nil, err
	}
	if head == nil {
		return fmt.Errorf("the server offers no program of this version for %s/%s", runtime.GOOS, runtime.GOARCH), nil
	}
	m, problem := program.Verify(head, u.folder.Trusted)
	if problem != nil {
		return problem, nil
	}
	if m.Version != version || m.OS != runtime.GOOS || m.Arch != runtime.GOARCH {
		return fmt.Errorf("what the server offers as version %s is signed as version %s for %s", version, m.Version, m.Platform()), nil
	}
	err = u.folder.Put(head, func(to io.Writer, got int64) error { return far.Read(ctx, id, to, got) })
	if errors.Is(err, program.ErrChanged) {
		return err, nil
	}
	return nil, err
}
