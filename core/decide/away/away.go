// Package away is about what a worker has seen while it was cut off from its server: what it keeps of that, and when that was by the clock
// of the database, whatever its own clock said meanwhile.
package away

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/signin"
)

// A Stamp is when something was, by the clocks of a worker.
type Stamp struct {
	Run  string        `json:"run"`  // of the worker's process; another one has another
	Up   time.Duration `json:"up"`   // since the process has begun
	Wall time.Time     `json:"wall"` // as the machine's clock said, which may be hours off
}

// A Base is a moment at which a worker knew what time it was by the clock of the database.
type Base struct {
	Stamp
	At time.Time `json:"at"`
}

// Time returns when a stamp was by the clock of the database. Within one process it is reckoned by how long that has run, which no setting
// of a clock changes; otherwise by the machine's clock. It is never after the base itself.
func (b Base) Time(s Stamp) time.Time {
	ago := b.Wall.Sub(s.Wall)
	if b.Run == s.Run {
		ago = b.Up - s.Up
	}
	return b.At.Add(-max(ago, 0))
}

// A Look is what came of one look at a camera, or of several that found the same.
type Look struct {
	Thing    uuid.UUID          `json:"thing"`
	Site     uuid.UUID          `json:"site"`
	RoundS   int                `json:"round_s"`
	First    Stamp              `json:"first"` // the look, or the first of several
	Last     Stamp              `json:"last"`  // the last of several
	State    watchround.State   `json:"state"`
	Full     bool               `json:"full,omitempty"`
	Findings []Finding          `json:"findings,omitempty"`
	Tries    []Try              `json:"tries,omitempty"`    // those that the camera has refused
	Measures map[string]float64 `json:"measures,omitempty"` // of the last
	Requests int                `json:"requests"`
	Bytes    int64              `json:"bytes"`
	Sessions int                `json:"sessions"`
	Took     time.Duration      `json:"took"`
}

// A Finding is evidence that a look has found.
type Finding struct {
	Kind     evidence.Kind   `json:"kind"`
	Subject  string          `json:"subject,omitempty"`
	Body     json.RawMessage `json:"body"`
	Exchange string          `json:"exchange,omitempty"`
	Still    []byte          `json:"still,omitempty"`
	StillID  uuid.UUID       `json:"still_id"`
}

// A Try is a sign-in that was sent and refused. It counts with those of others against what is safe, from when it was.
type Try struct {
	ID      uuid.UUID      `json:"id"` // by which it is filed once
	SignIn  uuid.UUID      `json:"sign_in"`
	Purpose signin.Purpose `json:"purpose"`
	Host    string         `json:"host,omitempty"`
	Result  signin.Result  `json:"result"`
	Wait    time.Duration  `json:"wait,omitempty"` // for which the camera says that it is locked
}

// longest is for how long looks are taken together that found the same: measures are kept by the hour for years.
const longest = time.Hour

// A Merger takes looks together that found the same, for each camera in the order in which they were. The zero value is ready.
type Merger struct{ open map[uuid.UUID]Look }

// Add adds a look. It returns one that is complete by that; ok is false where none is.
func (m *Merger) Add(l Look) (done Look, ok bool) {
	if m.open == nil {
		m.open = map[uuid.UUID]Look{}
	}
	was, there := m.open[l.Thing]
	if there && was.joins(l) {
		l.First, l.Findings, l.Tries = was.First, was.Findings, was.Tries
		l.Full = was.Full
		m.open[l.Thing] = l
		return Look{}, false
	}
	m.open[l.Thing] = l
	return was, there
}

// joins reports whether a later look found nothing that the one before had not.
func (l Look) joins(later Look) bool {
	news := len(later.Findings) > 0 || len(later.Tries) > 0
	return later.State == l.State && !news && !later.Full && later.RoundS == l.RoundS && later.Last.Run == l.First.Run &&
		later.Last.Up-l.First.Up < longest
}

// Rest returns what is still open.
func (m *Merger) Rest() (out []Look) {
	for _, l := range m.open {
		out = append(out, l)
	}
	m.open = nil
	return out
}
