package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/machine"
	"unlatch/core/ground/wiretext"
	"unlatch/jobs"
	"unlatch/server/certs"
	"unlatch/store"
	"unlatch/store/backup"
)

// backupFlags say how a server makes backups by itself.
type backupFlags struct {
	doctor.BackupSchedule
	clock string // time of day in UTC, as 02:00
	seal  sealFlags
}

func (f *backupFlags) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.To, "backup-to", "", "folder into which backups are written by themselves; none means never")
	c.Flags().DurationVar(&f.Every, "backup-every", 24*time.Hour, "time from one backup to the next, at least 1h")
	c.Flags().StringVar(&f.clock, "backup-at", "02:00", "time of day in UTC of backups that come once a day or less often")
	c.Flags().IntVar(&f.Days, "backup-keep-days", 7, "keep the newest backup of each of so many days")
	c.Flags().IntVar(&f.Weeks, "backup-keep-weeks", 5, "keep also the newest of each of so many weeks")
	c.Flags().IntVar(&f.Months, "backup-keep-months", 12, "keep also the newest of each of so many months")
	c.Flags().StringVar(&f.seal.recipients, "backup-recipients", "",
		"file with public keys of age, to which the key file in a backup is sealed")
	c.Flags().StringVar(&f.seal.passphrase, "backup-passphrase-file", "", "file with the passphrase to which the key file is sealed")
	c.Flags().BoolVar(&f.seal.open, "backup-without-key", false, "leave the key file out of backups: it is kept elsewhere")
}

// check refuses a schedule that cannot be kept.
func (f *backupFlags) check() error {
	if f.To == "" {
		return nil
	}
	at, err := time.Parse("15:04", f.clock)
	switch {
	case err != nil:
		return usageError{fmt.Errorf("--backup-at takes a time of day such as 02:00, not %q", f.clock)}
	case f.Every < time.Hour:
		return usageError{errors.New("--backup-every takes at least 1h")}
	case f.Days < 0 || f.Weeks < 0 || f.Months < 0:
		return usageError{errors.New("--backup-keep-days, -weeks and -months take numbers from 0 on")}
	}
	f.At = time.Duration(at.Hour())*time.Hour + time.Duration(at.Minute())*time.Minute
	f.Since = time.Now().UTC()
	_, err = f.seal.source()
	return err
}

// upkeep has the server tell of itself and make its backups, until ctx ends. kept is its certificate; nil without TLS.
func (s *services) upkeep(ctx context.Context, p *place, kept *certs.Keeper) {
	since := time.Now().UTC()
	name := fmt.Sprintf("server-%d-%s", os.Getpid(), uuid.NewString()[:8])
	look := func(ctx context.Context) doctor.Process {
		x := doctor.Process{Name: name, Kind: doctor.Server, Since: since, Machine: machine.Look(ctx, machine.Options{Folder: p.data})}
		if kept != nil {
			c := kept.State()
			x.Certificate = &c
		}
		if p.backups.To != "" {
			x.Backup = &p.backups.BackupSchedule
		}
		return x
	}
	reported := make(chan struct{})
	go func() {
		defer close(reported)
		jobs.Report(ctx, s.Store, p.log, nil, look)
	}()
	s.closers = append(s.closers, func() { <-reported })
	if p.backups.To != "" {
		go s.keepBackups(ctx, p)
	}
}

// backingUp is the lock under which one server at a time makes backups.
var backingUp = uuid.MustParse("5d0c9d3e-7c35-4d59-9d8e-2f0c7f6a1b11")

// dueEvery is how often it is looked whether a backup is due, or was asked for.
const dueEvery = 3 * time.Second

// keepBackups makes backups when they are due, and removes those that are kept no longer.
func (s *services) keepBackups(ctx context.Context, p *place) {
	for {
		_, err := s.Store.TryLocked(ctx, backingUp, func(ctx context.Context) error { return s.backUpIfDue(ctx, p, time.Now().UTC()) })
		if err != nil && ctx.Err() == nil {
			p.log.Warn("backups cannot be looked after", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(dueEvery):
		}
	}
}

func (s *services) backUpIfDue(ctx context.Context, p *place, now time.Time) error {
	had, err := s.Store.Upkeep.Backups(ctx)
	if err != nil {
		return err
	}
	wanted, err := s.Store.Upkeep.TakeBackupWish(ctx)
	if err != nil || !wanted && now.Before(p.backups.Due(had, now)) {
		return err
	}
	b := doctor.Backup{At: now}
	src, err := p.backups.seal.source()
	if err == nil {
		_, err = os.ReadDir(p.backups.To)
	}
	if err == nil {
		m, path, berr := p.backup(ctx, src, p.backups.To, p.config, now)
		err, b.Path, b.Rows = berr, path, m.Rows()
		if info, serr := os.Stat(path); err == nil && serr == nil {
			b.Bytes = info.Size()
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		p.log.Error("the backup failed", "err", err)
		b.Path, b.Problem = "", wiretext.Line(err.Error(), 300)
	} else {
		p.log.Info("a backup is made", "file", b.Path, "bytes", b.Bytes)
	}
	if err := s.Store.Upkeep.KeepBackup(ctx, b); err != nil || b.Problem != "" {
		return err
	}
	return s.dropBackups(ctx, p)
}

// dropBackups removes the files of backups that are kept no longer. Only files that the schedule has made are touched.
func (s *services) dropBackups(ctx context.Context, p *place) error {
	list, err := s.Store.Upkeep.MadeBackups(ctx)
	if err != nil {
		return err
	}
	byTime := map[time.Time]string{}
	var made []time.Time
	for _, b := range list {
		if filepath.Dir(b.Path) == filepath.Clean(p.backups.To) && strings.HasPrefix(filepath.Base(b.Path), backupPrefix) {
			byTime[b.At] = b.Path
			made = append(made, b.At)
		}
	}
	for _, at := range p.backups.Unkept(made) {
		if err := os.Remove(byTime[at]); err != nil && !errors.Is(err, os.ErrNotExist) {
			p.log.Warn("a backup that is kept no longer cannot be removed", "err", err)
			continue
		}
		if err := s.Store.Upkeep.BackupGone(ctx, byTime[at]); err != nil {
			return err
		}
	}
	return nil
}

// updateFolder is where in the data folder backups are put that are made before the tables are brought up to date.
const updateFolder = "before-update"

// keptUpdates is how many of those are kept.
const keptUpdates = 2

// backUpBefore makes a backup of a database before its tables are changed. The key file is not in it: it lies beside.
func (p *place) backUpBefore(ctx context.Context, url string, u store.Update) error {
	if p.unsaved {
		return nil
	}
	folder := filepath.Join(p.data, updateFolder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	to := filepath.Join(folder, fmt.Sprintf("%sfrom-%d-%s.zip", backupPrefix, u.From, time.Now().UTC().Format("20060102-150405")))
	at := *p
	at.database = url
	if _, _, err := at.backup(ctx, backup.Source{}, to, "", time.Now()); err != nil {
		return fmt.Errorf("%w.\nThe tables are as they were. Make room for a backup in %s, or start once with --update-without-backup",
			err, folder)
	}
	p.log.Warn("a backup was made before the tables are brought up to date", "file", to)
	list, err := filepath.Glob(filepath.Join(folder, backupPrefix+"*.zip"))
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b string) int { return strings.Compare(madeAt(a), madeAt(b)) })
	for _, old := range list[:max(0, len(list)-keptUpdates)] {
		os.Remove(old)
	}
	return nil
}

// madeAt returns the time in the name of a backup, as text.
func madeAt(path string) string {
	name := strings.TrimSuffix(filepath.Base(path), ".zip")
	return name[max(0, len(name)-len("20060102-150405")):]
}
