// Package command is what a worker can be told to do: to one device, to one target, or on a site.
//
// A command is data. It waits in the queue as JSON until a worker that reaches the site takes it up, which may be another process on
// another machine, and it is begun again from the start of its JSON when that worker dies. Commands therefore name secrets by their
// keyring entry and hold none.
package command

import (
	"fmt"

	"github.com/google/uuid"
)

// A Work is a run: commands that were given together, and that people see, and stop, as one.
type Work struct {
	Kind  string // of the run, as people filter by it
	Title string // as the strip shows it
	By    string // who began it; empty for the program itself
	// Steps is how many steps the run counts; 0 for one a command.
	Steps   int64
	Devices []OnDevice
	Targets []OnTarget
	Site    *OnSite
}

// Len returns how many commands there are.
func (w Work) Len() int {
	n := len(w.Devices) + len(w.Targets)
	if w.Site != nil {
		n++
	}
	return n
}

// Total returns how many steps the run counts.
func (w Work) Total() int64 {
	if w.Steps > 0 {
		return w.Steps
	}
	return int64(w.Len())
}

// Cameras returns a count of cameras in words: "1 camera", "12 cameras".
func Cameras(n int) string {
	if n == 1 {
		return "1 camera"
	}
	return fmt.Sprintf("%d cameras", n)
}

// An OnDevice is one device with its command.
type OnDevice struct {
	Device uuid.UUID `json:"device"`
	Do     Device    `json:"do"`
}

// An OnTarget is one target with its command.
type OnTarget struct {
	Target uuid.UUID `json:"target"`
	Do     Target    `json:"do"`
}
