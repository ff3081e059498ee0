// Package release says which build of the program is running.
package release

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"time"
)

// Version is the product's version, as semantic versioning writes it.
const Version = "0.1.0"

// The linker sets these: see build in ./dev. They are "" in a program that was built without them.
var (
	revision string // of the sources, as the version control names it
	made     string // when that revision was made, as RFC 3339
	changed  string // "yes" where files differed from the revision
)

// A Build is what a program was built from.
type Build struct {
	Version  string    `json:"version"`
	Revision string    `json:"revision,omitempty" doc:"of the sources; empty where the program was built without it"`
	Made     time.Time `json:"made,omitzero" doc:"when that revision was made"`
	Changed  bool      `json:"changed,omitempty" doc:"whether the sources differed from that revision"`
	Go       string    `json:"go" doc:"version of the Go toolchain that built it"`
	Platform string    `json:"platform" doc:"operating system and processor, such as linux/amd64"`
}

// Running returns the build of this program. What the linker was not told is taken from the build information that the Go toolchain
// leaves in a program, where it does.
func Running() Build {
	b := Build{Version: Version, Revision: revision, Changed: changed == "yes", Go: runtime.Version(),
		Platform: runtime.GOOS + "/" + runtime.GOARCH}
	b.Made, _ = time.Parse(time.RFC3339, made)
	if info, ok := debug.ReadBuildInfo(); ok && b.Revision == "" {
		b.read(info)
	}
	return b
}

func (b *Build) read(info *debug.BuildInfo) {
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Revision = s.Value
		case "vcs.time":
			b.Made, _ = time.Parse(time.RFC3339, s.Value)
		case "vcs.modified":
			b.Changed = s.Value == "true"
		}
	}
}

// String writes a build in a line, such as "0.1.0 (3f2a9c1b7d5e of 2026-11-29)".
func (b Build) String() string {
	if b.Revision == "" {
		return b.Version
	}
	of := b.Revision[:min(12, len(b.Revision))]
	if b.Changed {
		of += ", changed"
	}
	if !b.Made.IsZero() {
		of += " of " + b.Made.UTC().Format(time.DateOnly)
	}
	return fmt.Sprintf("%s (%s)", b.Version, of)
}
