package main

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// spent returns the processor time that this process's descendants have taken, by what they are: serve, worker and sim are this product's
// commands with the programs that they run, postgres is the database.
func spent() map[string]time.Duration {
	type process struct {
		parent int
		kind   string // empty where it is its parent's
		took   time.Duration
	}
	all := map[int]process{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		raw, err := os.ReadFile(file)
		at := strings.LastIndexByte(string(raw), ')') // what is before it is a name with anything in it
		if err != nil || at < 0 {
			continue // it has ended meanwhile
		}
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		f := strings.Fields(string(raw[at+1:])) // from the third field of proc(5) on
		if len(f) < 15 {
			continue
		}
		p := process{}
		p.parent, _ = strconv.Atoi(f[1])
		for _, ticks := range f[11:15] { // its own in user and system mode, and those of children that have ended
			n, _ := strconv.Atoi(ticks)
			p.took += time.Duration(n) * time.Second / 100
		}
		command, _ := os.ReadFile(filepath.Join(filepath.Dir(file), "cmdline"))
		args := strings.Split(string(command), "\x00")
		switch name := filepath.Base(args[0]); {
		case strings.HasPrefix(name, "postgres"):
			p.kind = "postgres"
		case name == "unlatch" && len(args) > 1:
			p.kind = args[1]
		}
		all[pid] = p
	}
	out := map[string]time.Duration{}
	for pid, p := range all {
		kind := p.kind
		for up := p.parent; up != os.Getpid(); up = all[up].parent {
			if up == 0 {
				kind = "" // none of this process's
				break
			}
			if kind == "" {
				kind = all[up].kind
			}
		}
		if pid != os.Getpid() && kind != "" {
			out[kind] += p.took
		}
	}
	return out
}

// spentSince returns what was spent after before was taken.
func spentSince(before map[string]time.Duration) map[string]time.Duration {
	out := spent()
	for _, kind := range slices.Collect(maps.Keys(out)) {
		out[kind] -= before[kind]
	}
	return out
}
