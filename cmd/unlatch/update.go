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
	failed string      // the version of a program that never came to work
}

// newUpdating begins in place of this program the one that the machine was handed, where there is one; it returns where there is none. key
// is what programs are signed with; "" trusts none.
func newUpdating(data, key string, log *slog.Logger) (*updating, error) {
	u := &updating{folder: program.Folder{Path: filepath.Join(data, "program")}, log: log}
	if key == "" {
		return u, nil
	}
	var err error
	if u.folder.Trusted, err = program.ReadTrusted(key); err != nil {
		return nil, usageError{fmt.Errorf("--update-key: %w", err)}
	}
	if os.Getenv(startedAs) != "" {
		return u, nil
	}
	return u, u.become()
}

// become begins the program that the machine was handed in place of this one. It returns where there is none, or where it cannot begin.
func (u *updating) become() error {
	path, version, failed := u.folder.Program(release.Version)
	if failed != "" {
		u.failed = failed
		return u.folder.Remove()
	}
	if path == "" {
		return nil
	}
	if err := u.folder.Started(); err != nil {
		return err
	}
	path, err := filepath.Abs(path)
	if err != nil {
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
	u.log.Error("the program that this machine was handed cannot begin; the one that is installed works", "version", version, "err", err)
	return nil
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
	far, err := store.DialUpdates(ctx, u.up.Dial)
	if err != nil {
		return err
	}
	defer far.Close()
	if u.failed != "" {
		if err := far.Say(ctx, store.UpdateFailed, fmt.Sprintf("Version %s was started %d times and never came to work, so version %s "+
			"works again.", u.failed, program.MostStarts, release.Version)); err != nil {
			return err
		}
		u.failed = ""
	}
	if os.Getenv(startedAs) != "" && u.works.Load() && !u.folder.Worked() {
		if err := far.Say(ctx, store.UpdateDone, ""); err != nil {
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
		return far.Say(ctx, store.UpdateFailed, problem.Error())
	case err != nil:
		return errors.Join(err, far.Say(ctx, store.UpdateTold, "It is tried again: "+err.Error()))
	}
	if err := far.Say(ctx, store.UpdateTaken, ""); err != nil {
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
