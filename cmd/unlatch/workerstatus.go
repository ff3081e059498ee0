package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/ground/release"
	"unlatch/jobs"
)

// statusFile is where a paired worker writes how it stands, in its data folder.
const statusFile = "worker-status.json"

// statusEvery is how often it does, and statusOld from when on nobody believes it any more.
const (
	statusEvery = 5 * time.Second
	statusOld   = 30 * time.Second
)

// A workerStatus is how a paired worker stands.
type workerStatus struct {
	At       time.Time        `json:"at"`
	Process  int              `json:"process"`
	Version  string           `json:"version"`
	Link     jobs.UplinkState `json:"link"`
	Sites    []string         `json:"sites"`
	Jobs     int              `json:"jobs"` // under way
	MemoryMB int              `json:"memory_mb"`
	BoundMB  int64            `json:"memory_bound_mb"` // at which memory is given back
	// Kept are the looks at cameras that were made while the line was cut, and are filed when it is back.
	Kept int `json:"kept,omitempty"`
}

// keepStatus writes how a paired worker stands until ctx ends.
func keepStatus(ctx context.Context, data string, up *jobs.Uplink, w *jobs.Workers) {
	for {
		s := workerStatus{At: time.Now().UTC(), Process: os.Getpid(), Version: release.Version, Link: up.State(), Jobs: w.UnderWay(),
			MemoryMB: memoryMB(), BoundMB: debug.SetMemoryLimit(-1) >> 20, Kept: w.Kept()}
		s.Sites = w.Reached()
		if raw, err := json.MarshalIndent(s, "", " "); err == nil {
			part := filepath.Join(data, statusFile+".part")
			if os.WriteFile(part, append(raw, '\n'), 0o600) == nil {
				os.Rename(part, filepath.Join(data, statusFile)) // a disk that is full keeps nobody from working
			}
		}
		select {
		case <-ctx.Done():
			os.Remove(filepath.Join(data, statusFile))
			return
		case <-time.After(statusEvery):
		}
	}
}

// memoryMB is what the program has of the system, in MB.
func memoryMB() int {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int(m.Sys >> 20)
}

// workerStatusCommand says how the paired worker on this machine stands.
func workerStatusCommand() *cobra.Command {
	var data string
	var asJSON bool
	c := &cobra.Command{Use: "status", Short: "Say how the paired worker on this machine stands", Args: noArgs,
		Long: "Status says whether the worker runs, whether it reaches its server, and what it does.\n" +
			"Exit 0 when it runs and is connected, 1 when it is not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			raw, err := os.ReadFile(filepath.Join(data, statusFile))
			if errors.Is(err, fs.ErrNotExist) {
				fmt.Fprintf(cmd.OutOrStdout(), "No paired worker runs on %s. Start one: unlatch worker --data %[1]s\n", data)
				return errNo
			}
			if err != nil {
				return err
			}
			var s workerStatus
			if err := json.Unmarshal(raw, &s); err != nil {
				return fmt.Errorf("%s cannot be read: %w", statusFile, err)
			}
			if asJSON {
				_, err = cmd.OutOrStdout().Write(raw)
			} else {
				s.tell(cmd.OutOrStdout(), time.Now())
			}
			if err == nil && (!s.Link.Connected || time.Since(s.At) > statusOld) {
				return errNo
			}
			return err
		}}
	c.Flags().StringVar(&data, "data", ".unlatch", "folder in which the worker keeps its key")
	c.Flags().BoolVar(&asJSON, "json", false, "write it as JSON")
	return c
}

// tell writes how a worker stands in words.
func (s workerStatus) tell(out io.Writer, now time.Time) {
	if old := now.Sub(s.At); old > statusOld {
		fmt.Fprintf(out, "The worker has told nothing for %v: it does not run any more, or the disk is full.\n", old.Round(time.Second))
		return
	}
	since := now.Sub(s.Link.Since).Round(time.Second)
	if s.Link.Connected {
		fmt.Fprintf(out, "Connected to %s for %v, %.0f ms away\n", s.Link.Server, since, s.Link.DelayMS)
	} else {
		fmt.Fprintf(out, "Not connected to %s for %v: %s\n", s.Link.Server, since, s.Link.Problem)
	}
	for _, site := range s.Sites {
		fmt.Fprintln(out, "Site      ", site)
	}
	if s.Kept > 0 {
		fmt.Fprintf(out, "Kept       %d looks at cameras, which are filed when the line is back\n", s.Kept)
	}
	fmt.Fprintf(out, "Jobs       %d under way\nMemory     %d MB of at most %d MB\nVersion    %s\nProcess    %d\n", s.Jobs, s.MemoryMB,
		s.BoundMB, s.Version, s.Process)
}
