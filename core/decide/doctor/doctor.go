// Package doctor judges whether a server is well: from what was seen of its machines, its database, its queue and its backups come
// findings, each with what to do. It looks at nothing itself.
package doctor

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"unlatch/core/ground/machine"
	"unlatch/core/ground/release"
	"unlatch/core/stream/conversion"
)

// Facts are what is judged. What could not be learned is nil or empty, and is not judged.
type Facts struct {
	At        time.Time
	Processes []Process
	Database  *Database
	Queue     *Queue
	Sites     []Site
	Backups   Backups
	Relays    []Relay
}

// A Process is a server or a worker, as it tells of itself once a minute.
type Process struct {
	Name    string        `json:"name"`
	Kind    Kind          `json:"kind"`
	Since   time.Time     `json:"since"`
	Seen    time.Time     `json:"seen"` // when it told of itself last, by the clock of the database
	Sites   []string      `json:"sites,omitempty" doc:"names of the sites that a worker reaches"`
	Machine machine.Facts `json:"machine"`
	// Paired says that it is a paired worker, which has no key file.
	Paired bool `json:"paired,omitempty"`
	// Relay is where a worker serves streams on, as address and port; "" for one that serves none.
	Relay string `json:"relay,omitempty"`
	// RelayTLS is where it does so over TLS.
	RelayTLS string `json:"relay_tls,omitempty"`
	// Faces are the ports on which it makes ONVIF faces of relays; none where it makes none.
	Faces Ports `json:"faces,omitzero"`
	// Pages is the address under which it serves streams to web pages, such as http://192.0.2.5:8590; "" for nowhere.
	Pages string `json:"pages,omitempty"`
	// Converting is what turning streams into other forms costs there; nil where it serves none, or has not measured yet.
	Converting *conversion.Rates `json:"converting,omitempty"`
	// Certificate is what a server serves with; nil without TLS.
	Certificate *ServedCertificate `json:"certificate,omitempty"`
	// Backup is the schedule by which a server makes backups; nil where it makes none.
	Backup *BackupSchedule `json:"backup,omitempty"`
}

// Ports are those from First to Last.
type Ports struct {
	First int `json:"first"`
	Last  int `json:"last"`
}

// Kind says what a process does.
type Kind string

// The kinds of processes.
const (
	Server Kind = "server"
	Worker Kind = "worker"
)

// A ServedCertificate is what a server serves with.
type ServedCertificate struct {
	Source  Source    `json:"source"`
	Begins  time.Time `json:"begins,omitzero"`
	Ends    time.Time `json:"ends"`
	Problem string    `json:"problem,omitempty" doc:"why it was not renewed"`
}

// Source says where a certificate is from.
type Source string

// The sources of certificates.
const (
	SelfMade Source = "made here"
	Given    Source = "given"
	FromACME Source = "by ACME"
)

// A Database is what PostgreSQL says of itself.
type Database struct {
	Version string    `json:"version"`
	Clock   time.Time `json:"clock"`
	Schema  int64     `json:"schema"` // number of its newest migration
	Bytes   int64     `json:"bytes"`
	// Connections are those in use, of MostConnections.
	Connections     int     `json:"connections"`
	MostConnections int     `json:"most_connections"`
	Tables          []Table `json:"tables" doc:"the largest"`
	// SlowNow is how many statements have been running for more than SlowAfter, and SlowestSeconds for how long the oldest has.
	SlowNow        int     `json:"slow_now"`
	SlowestSeconds float64 `json:"slowest_seconds"`
	// Blocked is how many statements wait for a lock of another.
	Blocked int `json:"blocked"`
}

// SlowAfter is after which time a statement counts as slow. None of the product's own takes that long but migrations and backups.
const SlowAfter = 10 * time.Second

// A Table is one table with its indexes.
type Table struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
	Rows  int64  `json:"rows"` // estimated
	Dead  int64  `json:"dead"` // rows that were changed or deleted and whose room was not freed yet
}

// A Queue is how work goes.
type Queue struct {
	Waiting int `json:"waiting"` // jobs that could begin now
	Working int `json:"working"`
	Later   int `json:"later"` // put off
	// OldestSeconds is for how long the oldest of the waiting could have begun.
	OldestSeconds float64 `json:"oldest_seconds"`
	// Failed is how many jobs were given up within the last day, by kind.
	Failed map[string]int `json:"failed,omitempty"`
}

// A Site is a site as far as its workers go.
type Site struct {
	Name    string
	Reached bool
	// Cameras are the addressed devices; Announced is how many of them were ever heard by an announcement.
	Cameras, Announced int
}

// A ServerFinding is one thing that was judged.
type ServerFinding struct {
	// Cause names what is judged, such as disk_full: the same finding has the same cause each time.
	Cause string `json:"cause"`
	State State  `json:"state" enum:"well,soon,ill"`
	// On is the machine that it is about, "" where it is about the installation.
	On   string `json:"on,omitempty"`
	Says string `json:"says"`
	Do   string `json:"do,omitempty"`
}

// State says how a finding stands.
type State string

// The states of findings.
const (
	Well State = "well"
	Soon State = "soon" // works, and wants to be looked at before it does not
	Ill  State = "ill"
)

// rank orders states: what is ill comes first.
func (s State) rank() int { return slices.Index([]State{Ill, Soon, Well}, s) }

// Key tells a finding from others.
func (f ServerFinding) Key() string { return f.Cause + " " + f.On }

// Judge returns findings, those that are ill first.
func Judge(f Facts) []ServerFinding {
	j := &judge{at: f.At}
	j.processes(f.Processes)
	if f.Database != nil {
		j.database(*f.Database)
	}
	if f.Queue != nil {
		j.queue(*f.Queue)
	}
	j.sites(f.Sites)
	j.relays(f.Relays)
	j.backups(f.Backups, f.Processes)
	return j.sorted()
}

// sorted returns what was found, what is ill first.
func (j *judge) sorted() []ServerFinding {
	slices.SortStableFunc(j.found, func(a, b ServerFinding) int { return cmp.Compare(a.State.rank(), b.State.rank()) })
	return j.found
}

// JudgeMachine judges what is known of a machine without a database, those that are ill first.
func JudgeMachine(p Process) []ServerFinding {
	j := &judge{at: p.Seen}
	j.machine(p)
	return j.sorted()
}

// judge gathers findings.
type judge struct {
	at    time.Time
	on    string // the machine that is judged
	found []ServerFinding
}

func (j *judge) ill(cause, do, says string, args ...any) { j.add(Ill, cause, do, says, args) }

func (j *judge) soon(cause, do, says string, args ...any) { j.add(Soon, cause, do, says, args) }

func (j *judge) well(cause, says string, args ...any) { j.add(Well, cause, "", says, args) }

func (j *judge) add(s State, cause, do, says string, args []any) {
	f := ServerFinding{Cause: cause, State: s, On: j.on, Says: fmt.Sprintf(says, args...), Do: do}
	if !slices.Contains(j.found, f) { // a server and a worker on one machine find the same
		j.found = append(j.found, f)
	}
}

// silentAfter is after how long a process that has not told of itself counts as gone.
const silentAfter = 5 * time.Minute

// processes judges each process that still tells of itself, and whether there is a worker at all.
func (j *judge) processes(list []Process) {
	builds := map[string]bool{}
	workers := 0
	for _, p := range list {
		j.on = p.Machine.Name
		if silent := j.at.Sub(p.Seen); silent > silentAfter {
			j.soon("process_silent", "If it was taken away on purpose, nothing: it is forgotten after a day. Otherwise look at its log there.",
				"The %s %s has said nothing for %s.", p.Kind, p.Name, about(silent))
			continue
		}
		if p.Kind == Worker {
			workers++
		}
		builds[p.Machine.Program.String()] = true
		j.machine(p)
		if p.Certificate != nil {
			j.certificate(*p.Certificate)
		}
	}
	j.on = ""
	if len(list) > 0 && workers == 0 {
		j.ill("no_worker", "Start one: unlatch serve without --no-workers, or unlatch worker on a machine that reaches the sites.",
			"No worker runs: nothing is looked for, measured or set.")
	}
	if len(builds) > 1 {
		j.soon("versions_differ", "Install the same version on each machine.", "%d different versions of Unlatch work on this database.",
			len(builds))
	}
	j.well("version", "Unlatch %s.", release.Running())
}

func (j *judge) certificate(c ServedCertificate) {
	left := c.Ends.Sub(j.at)
	says := fmt.Sprintf("The certificate (%s) ends on %s", c.Source, c.Ends.UTC().Format(time.DateOnly))
	if c.Problem != "" {
		says += "; it was not renewed: " + c.Problem
	}
	do := map[Source]string{SelfMade: "Start the server anew: it makes another one.",
		Given:    "Put the new one in its place; it is read without a restart.",
		FromACME: "See what the directory says in the server's log; port and name have to be reachable for it."}[c.Source]
	soon, late := 21*24*time.Hour, 7*24*time.Hour
	if c.Source == FromACME { // which is renewed when a third of its life is left, however long that is
		soon, late = c.Ends.Sub(c.Begins)/4, c.Ends.Sub(c.Begins)/8
	}
	switch {
	case left <= 0:
		j.ill("certificate_ended", do, "The certificate (%s) has ended on %s: browsers refuse it.", c.Source, c.Ends.UTC().Format(time.DateOnly))
	case left < late:
		j.ill("certificate_ends", do, "%s.", says)
	case left < soon || c.Problem != "":
		j.soon("certificate_ends", do, "%s.", says)
	default:
		j.well("certificate", "%s.", says)
	}
}

// about writes a time in one unit, such as "3 hours".
func about(d time.Duration) string {
	for _, u := range []struct {
		unit time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		switch n := int(d / u.unit); {
		case n == 1:
			return "1 " + u.name
		case n > 1:
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return "less than a second"
}

// size writes bytes in one unit, such as "1.4 GB".
func size(bytes uint64) string {
	for _, u := range []struct {
		unit float64
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}} {
		if float64(bytes) >= u.unit {
			return fmt.Sprintf("%.1f %s", float64(bytes)/u.unit, u.name)
		}
	}
	return fmt.Sprintf("%d bytes", bytes)
}
