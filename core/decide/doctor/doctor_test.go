package doctor_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/address"
	"unlatch/core/ground/machine"
	"unlatch/core/ground/release"
)

var at = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

// whole returns facts of a server with which all is well.
func whole() doctor.Facts {
	kept := true
	m := machine.Facts{Name: "bench", At: at, Program: release.Build{Version: "0.1.0", Made: at.AddDate(0, -1, 0)}, Processors: 2,
		MemorySize: 4 << 30, MemoryFree: 2 << 30, Disk: machine.Disk{Folder: "/var/lib/unlatch", Free: 50 << 30, Size: 100 << 30},
		FFmpeg: "7.1", OpenFiles: 65536, ReceiveBuffer: 4 << 20, Groups: 100, ClockKept: &kept,
		Cards:  []machine.Card{{Interface: address.Interface{Name: "eth0"}}},
		Routes: []machine.Route{{Range: "192.0.2.0/24", Card: "eth0"}}}
	plan := &doctor.BackupSchedule{To: "/srv", Every: 24 * time.Hour, At: 2 * time.Hour, Days: 7, Since: at.AddDate(0, 0, -30)}
	return doctor.Facts{At: at,
		Processes: []doctor.Process{
			{Name: "server-1", Kind: doctor.Server, Seen: at, Machine: m, Backup: plan,
				Certificate: &doctor.ServedCertificate{Source: doctor.Given, Ends: at.AddDate(0, 3, 0)}},
			{Name: "worker-1", Kind: doctor.Worker, Seen: at, Machine: m}},
		Database: &doctor.Database{Version: "15.3", Clock: at, Bytes: 1 << 30, Connections: 12, MostConnections: 100,
			Tables: []doctor.Table{{Name: "evidence", Bytes: 1 << 29, Rows: 100_000, Dead: 1000}}},
		Queue:   &doctor.Queue{Waiting: 3, Working: 2, OldestSeconds: 4},
		Relays:  []doctor.Relay{{Path: "clock/main", Site: "Tarn Ferry", For: "Vault", Told: at}},
		Sites:   []doctor.Site{{Name: "Tarn Ferry", Reached: true, Cameras: 16, Announced: 12}},
		Backups: doctor.Backups{Last: &doctor.Backup{At: at.Add(-7 * time.Hour)}, LastGood: &doctor.Backup{At: at.Add(-7 * time.Hour)}}}
}

func TestWellIsWell(t *testing.T) {
	t.Parallel()
	for _, f := range doctor.Judge(whole()) {
		assert.Equal(t, doctor.Well, f.State, "%s: %s", f.Cause, f.Says)
		assert.Empty(t, f.Do, "nothing is to be done")
	}
}

// Each fact that is not as it should be is a finding of its own, and the first, with what to do.
func TestWhatIsNotWell(t *testing.T) {
	t.Parallel()
	worker := func(f *doctor.Facts) *machine.Facts { return &f.Processes[1].Machine }
	gone := false
	for cause, spoil := range map[string]func(*doctor.Facts){
		"disk_full":      func(f *doctor.Facts) { worker(f).Disk.Free = 100 << 20 },
		"disk_low":       func(f *doctor.Facts) { worker(f).Disk.Free = 1 << 30 },
		"disk_read_only": func(f *doctor.Facts) { worker(f).Disk.ReadOnly = true },
		"memory_low":     func(f *doctor.Facts) { worker(f).MemoryFree = 1 << 20 },
		"clock_wrong":    func(f *doctor.Facts) { worker(f).At = time.Date(1970, 1, 1, 0, 4, 0, 0, time.UTC) },
		"clock_not_kept": func(f *doctor.Facts) { worker(f).ClockKept = &gone },
		"no_ffmpeg":      func(f *doctor.Facts) { worker(f).FFmpeg = "" },
		"few_files":      func(f *doctor.Facts) { worker(f).OpenFiles = 1024 },
		"port_shut":      func(f *doctor.Facts) { worker(f).Shut = map[int]string{3702: "in use"} },
		"small_buffers":  func(f *doctor.Facts) { worker(f).ReceiveBuffer = 212992 },
		"few_groups":     func(f *doctor.Facts) { worker(f).Groups = 5 },
		"no_multicast":   func(f *doctor.Facts) { worker(f).Cards[0].MulticastProblem = "a firewall drops it" },
		"wireless":       func(f *doctor.Facts) { worker(f).Cards[0].Wireless = true },
		"no_route":       func(f *doctor.Facts) { worker(f).Routes[0].Card = "" },
		"beyond_router":  func(f *doctor.Facts) { worker(f).Routes[0].Beyond = true },
		"process_silent": func(f *doctor.Facts) {
			f.Processes = append(f.Processes, doctor.Process{Kind: doctor.Worker, Seen: at.Add(-time.Hour)})
		},
		"no_worker":         func(f *doctor.Facts) { f.Processes = f.Processes[:1] },
		"versions_differ":   func(f *doctor.Facts) { worker(f).Program.Version = "0.0.9" },
		"certificate_ends":  func(f *doctor.Facts) { f.Processes[0].Certificate.Ends = at.Add(24 * time.Hour) },
		"certificate_ended": func(f *doctor.Facts) { f.Processes[0].Certificate.Ends = at.Add(-time.Hour) },
		"connections":       func(f *doctor.Facts) { f.Database.Connections = 95 },
		"slow_statements":   func(f *doctor.Facts) { f.Database.SlowNow, f.Database.SlowestSeconds = 1, 40 },
		"bloat":             func(f *doctor.Facts) { f.Database.Tables[0].Dead = 90_000 },
		"queue_waits":       func(f *doctor.Facts) { f.Queue.OldestSeconds = 1000 },
		"jobs_failed":       func(f *doctor.Facts) { f.Queue.Failed = map[string]int{"device": 2} },
		"site_unreached":    func(f *doctor.Facts) { f.Sites[0].Reached = false },
		"no_announcements":  func(f *doctor.Facts) { f.Sites[0].Announced = 0 },
		"relay_down":        func(f *doctor.Facts) { f.Relays[0].Problem = "it does not answer" },
		"relay_unserved":    func(f *doctor.Facts) { f.Relays[0].Told = at.Add(-time.Hour) },
		"no_backups":        func(f *doctor.Facts) { f.Processes[0].Backup = nil },
		"backup_failed":     func(f *doctor.Facts) { f.Backups.Last = &doctor.Backup{At: at, Problem: "no space left"} },
		"backup_missed":     func(f *doctor.Facts) { f.Backups.LastGood.At = at.Add(-27 * time.Hour) },
	} {
		f := whole()
		copied := f.Processes[1].Machine
		copied.Cards, copied.Routes = append([]machine.Card{}, copied.Cards...), append([]machine.Route{}, copied.Routes...)
		f.Processes[1].Machine = copied
		spoil(&f)
		list := doctor.Judge(f)
		assert.Equal(t, cause, list[0].Cause, "%+v", list)
		assert.NotEqual(t, doctor.Well, list[0].State, cause)
		assert.NotEmpty(t, list[0].Do, cause)
		assert.NotEqual(t, doctor.Well, list[0].State)
		if len(list) > 1 {
			assert.Equal(t, doctor.Well, list[1].State, "%s says two things: %+v", cause, list[1])
		}
	}
}

func TestNothingKnownIsNothingJudged(t *testing.T) {
	t.Parallel()
	list := doctor.Judge(doctor.Facts{At: at})
	require.Len(t, list, 2)
	assert.Equal(t, "no_backups", list[0].Cause)
	assert.Equal(t, "version", list[1].Cause)
}

func TestWhenABackupIsDue(t *testing.T) {
	t.Parallel()
	daily := doctor.BackupSchedule{Every: 24 * time.Hour, At: 2 * time.Hour}
	hourly := doctor.BackupSchedule{Every: 6 * time.Hour}
	for _, c := range []struct {
		s              doctor.BackupSchedule
		last, now, due string
	}{
		{daily, "", "2026-11-30 09:00", "2026-12-01 02:00"},
		{daily, "", "2026-11-30 01:00", "2026-11-30 02:00"},
		{daily, "2026-11-30 02:00", "2026-11-30 09:00", "2026-12-01 02:00"},
		{daily, "2026-11-30 02:20", "2026-11-30 09:00", "2026-12-01 02:00"},
		{daily, "2026-11-27 02:00", "2026-11-30 09:00", "2026-11-28 02:00"}, // missed: due at once
		{daily, "2026-11-30 08:00", "2026-11-30 09:00", "2026-12-01 02:00"}, // made late
		{hourly, "", "2026-11-30 09:00", "2026-11-30 09:00"},
		{hourly, "2026-11-30 08:00", "2026-11-30 09:00", "2026-11-30 14:00"},
	} {
		read := func(s string) (t time.Time) { t, _ = time.Parse("2006-01-02 15:04", s); return t }
		assert.Equal(t, c.due, c.s.Next(read(c.last), read(c.now)).Format("2006-01-02 15:04"), "%+v", c)
	}
}

func TestWhichBackupsAreKept(t *testing.T) {
	t.Parallel()
	s := doctor.BackupSchedule{Days: 3, Weeks: 2, Months: 2}
	var made []time.Time
	for i := range 60 {
		made = append(made, time.Date(2026, 11, 30, 2, 0, 0, 0, time.UTC).AddDate(0, 0, -i))
	}
	gone := map[time.Time]bool{}
	for _, x := range s.Unkept(made) {
		gone[x] = true
	}
	var kept []string
	for _, x := range made {
		if !gone[x] {
			kept = append(kept, x.Format("01-02"))
		}
	}
	assert.Equal(t, []string{"11-30", "11-29", "11-28", "10-31"}, kept, "three days, the weeks of the first two, and the end of October")
	assert.Empty(t, doctor.BackupSchedule{}.Unkept(made[:1]), "the newest always stays")
}

// A backup that failed is tried again an hour later, and a clock that is wrong puts none off for years.
func TestWhenABackupIsDueAfterWhatWasTried(t *testing.T) {
	t.Parallel()
	s := doctor.BackupSchedule{Every: 24 * time.Hour, At: 2 * time.Hour, Since: at.AddDate(0, 0, -3)}
	good, failed := &doctor.Backup{At: at.Add(-31 * time.Hour)}, &doctor.Backup{At: at.Add(-20 * time.Minute), Problem: "no space"}
	assert.Equal(t, at.Add(40*time.Minute), s.Due(doctor.Backups{Last: failed, LastGood: good}, at))
	assert.True(t, s.Due(doctor.Backups{Last: good, LastGood: good}, at).Before(at), "one was missed")
	assert.True(t, s.Due(doctor.Backups{}, at).Before(at), "none was made since the server was started")
	wrong := time.Unix(240, 0).UTC()
	assert.Less(t, s.Due(doctor.Backups{Last: good, LastGood: good}, wrong).Sub(wrong), 48*time.Hour)
	ahead := &doctor.Backup{At: at.AddDate(30, 0, 0)}
	assert.Less(t, s.Due(doctor.Backups{Last: ahead, LastGood: ahead}, at).Sub(at), 48*time.Hour)
}
