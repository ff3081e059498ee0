package doctor

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Bounds of what is usual.
const (
	deadShare   = 0.3       // of a table's rows
	deadBytes   = 100 << 20 // below that a table is no matter
	longWait    = 2 * time.Minute
	fullShare   = 0.9 // of the connections
	missedSlack = 2 * time.Hour
)

func (j *judge) database(d Database) {
	j.well("database", "PostgreSQL %s, %s.", d.Version, size(uint64(d.Bytes)))
	if d.MostConnections > 0 && float64(d.Connections) > fullShare*float64(d.MostConnections) {
		j.ill("connections", "Raise max_connections, or find who else uses this server (pg_stat_activity).",
			"%d of %d connections to the database are in use.", d.Connections, d.MostConnections)
	}
	if d.SlowNow > 0 {
		j.soon("slow_statements", "If a backup or an update runs, nothing. Otherwise see pg_stat_activity: what waits, and for what.",
			"%s for more than %s, the oldest for %s.", count(d.SlowNow, "statement has", "statements have")+" been running", about(SlowAfter),
			about(seconds(d.SlowestSeconds)))
	}
	if d.Blocked > 0 && d.SlowNow > 0 {
		j.soon("blocked", "See pg_blocking_pids: end the one that holds the lock.", "%s for a lock of another.",
			count(d.Blocked, "statement waits", "statements wait"))
	}
	for _, t := range d.Tables {
		if t.Bytes > deadBytes && float64(t.Dead) > deadShare*float64(t.Rows+t.Dead) {
			j.soon("bloat", "Is autovacuum on? VACUUM "+t.Name+" frees the room for what comes next.",
				"%d%% of the rows of %s (%s) are dead.", 100*t.Dead/(t.Rows+t.Dead), t.Name, size(uint64(t.Bytes)))
		}
	}
}

func (j *judge) queue(q Queue) {
	waits := seconds(q.OldestSeconds)
	if q.Waiting > 0 && waits > longWait {
		j.soon("queue_waits", "See below whether a worker reaches each site; if all do, they are busy.",
			"%s begun, the oldest for %s.", count(q.Waiting, "job waits to be", "jobs wait to be"), about(waits))
	} else {
		waiting := "none waits"
		if q.Waiting > 0 {
			waiting = count(q.Waiting, "waits", "wait")
		}
		j.well("queue", "%s, %s.", count(q.Working, "job under way", "jobs under way"), waiting)
	}
	if len(q.Failed) > 0 {
		var kinds []string
		for _, k := range slices.Sorted(maps.Keys(q.Failed)) {
			kinds = append(kinds, fmt.Sprintf("%s %d", k, q.Failed[k]))
		}
		j.soon("jobs_failed", "See the runs of the sites for why; the log of the worker has the details.",
			"Jobs were given up within a day: %s.", strings.Join(kinds, ", "))
	}
}

func (j *judge) sites(list []Site) {
	for _, s := range list {
		if !s.Reached {
			j.soon("site_unreached", "Start a worker on a machine that reaches it: unlatch worker --site.", "No worker reaches %s.", s.Name)
		}
		const few = 4 // below that it may be chance
		if s.Reached && s.Cameras >= few && s.Announced == 0 {
			j.soon("no_announcements", "Is the worker in the same network? Otherwise a switch, a firewall or a wireless network drops multicast "+
				"there; cameras are found by a sweep of the range all the same.",
				"At %s no camera was heard by its announcement; all %d were found by a sweep or by hand.", s.Name, s.Cameras)
		}
	}
}

// Backups are how the last ones went.
type Backups struct {
	// Last is the newest that was tried, and LastGood the newest that was written and checked; nil where there is none.
	Last, LastGood *Backup
}

// A Backup is one that was tried by schedule.
type Backup struct {
	At      time.Time `json:"at"`
	Path    string    `json:"path,omitempty"`
	Bytes   int64     `json:"bytes,omitempty"`
	Rows    int64     `json:"rows,omitempty"`
	Problem string    `json:"problem,omitempty" doc:"why there is none"`
}

// backups judges whether backups are made as they should be.
func (j *judge) backups(b Backups, list []Process) {
	var s *BackupSchedule
	for _, p := range list {
		if p.Backup != nil && j.at.Sub(p.Seen) <= silentAfter {
			s = p.Backup
		}
	}
	const look = "See what it says, then make one by hand: unlatch backup --to DIR."
	switch {
	case s == nil:
		j.soon("no_backups", "Set backup-to in the settings, or have cron or a timer call unlatch backup.", "No backups are made by themselves.")
	case b.Last != nil && b.Last.Problem != "":
		since := "there is none at all"
		if b.LastGood != nil {
			since = "the last good one is of " + b.LastGood.At.UTC().Format("2006-01-02 15:04")
		}
		j.ill("backup_failed", look, "The backup of %s failed: %s; %s.", b.Last.At.UTC().Format("2006-01-02 15:04"), b.Last.Problem, since)
	case b.LastGood == nil && j.at.Sub(s.Since) > s.Every+missedSlack:
		j.ill("backup_missed", look, "No backup was made yet, although one is due every %s.", about(s.Every))
	case b.LastGood != nil && j.at.Sub(b.LastGood.At) > s.Every+missedSlack && j.at.Sub(s.Since) > missedSlack:
		j.ill("backup_missed", look, "A backup was missed: the last one is of %s.", b.LastGood.At.UTC().Format("2006-01-02 15:04"))
	case b.LastGood == nil:
		j.well("backup", "The first backup is due on %s.", s.Due(b, j.at).Format("2006-01-02 15:04"))
	default:
		j.well("backup", "The last backup is of %s: %s, %s.", b.LastGood.At.UTC().Format("2006-01-02 15:04"),
			size(uint64(b.LastGood.Bytes)), count(int(b.LastGood.Rows), "row", "rows"))
	}
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// count writes a number with what it counts.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
