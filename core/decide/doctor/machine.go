package doctor

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"unlatch/core/ground/machine"
)

// Bounds of what is enough.
const (
	leastDisk    = 256 << 20 // a large run writes about as much
	lowDisk      = 2 << 30
	leastMemory  = 128 << 20
	leastFiles   = 4096 // a sweep of a large range has a thousand sockets open, and each stream some more
	goodBuffer   = 1 << 20
	leastGroups  = 20 // the kernel's own default
	mostClockGap = 5 * time.Second
)

// machine judges the computer that a process runs on.
func (j *judge) machine(p Process) {
	m := p.Machine
	j.disk(m.Disk)
	if m.MemorySize > 0 && m.MemoryFree < leastMemory {
		j.soon("memory_low", "End other programs there, or give it more memory.", "%s of memory is left of %s.", size(m.MemoryFree),
			size(m.MemorySize))
	}
	j.clock(p)
	if m.FFmpeg == "" {
		j.ill("no_ffmpeg", "apt-get install ffmpeg", "ffmpeg is not installed: no picture can be decoded, and no stream is proven.")
	} else {
		j.well("ffmpeg", "ffmpeg %s.", m.FFmpeg)
	}
	if m.OpenFiles > 0 && m.OpenFiles < leastFiles {
		j.soon("few_files", "Set LimitNOFILE=65536 in its unit, or ulimit -n 65536.",
			"The process may have %d files and sockets open; many cameras at once want %d.", m.OpenFiles, leastFiles)
	}
	if p.Kind == Worker {
		j.hearing(m)
	}
}

func (j *judge) disk(d machine.Disk) {
	switch {
	case d.Size == 0:
	case d.ReadOnly:
		j.ill("disk_read_only", "Look at the disk: a file system that finds a fault is made read-only. Then mount it anew.",
			"The file system of %s is read-only: nothing can be kept.", d.Folder)
	case d.Free < leastDisk:
		j.ill("disk_full", "Free some space, or have the past kept for a shorter time (Who did what, How long things are kept).",
			"%s is left on the disk of %s.", size(d.Free), d.Folder)
	case d.Free < lowDisk && d.Free < d.Size/10:
		j.soon("disk_low", "Free some space before a large run.", "%s is left on the disk of %s, of %s.", size(d.Free), d.Folder, size(d.Size))
	default:
		j.well("disk", "%s free on the disk of %s.", size(d.Free), d.Folder)
	}
}

// clock judges the clock of a machine: by the time at which the program was built, by the database, and by what the kernel says.
func (j *judge) clock(p Process) {
	m := p.Machine
	const do = "Set it, and have it kept: apt-get install systemd-timesyncd, or name a time server. Signing in to cameras fails when " +
		"clocks differ."
	gap := m.At.Sub(p.Seen).Abs()
	switch {
	case m.At.Before(m.Program.Made):
		j.ill("clock_wrong", do, "The clock says %s, which is before this program was made.", m.At.UTC().Format("2006-01-02 15:04"))
	case gap > mostClockGap:
		j.ill("clock_wrong", do, "The clock and that of the database are %s apart.", about(gap))
	case m.ClockKept != nil && !*m.ClockKept:
		j.soon("clock_not_kept", do, "Nothing keeps the clock: it drifts by seconds a day.")
	default:
		j.well("clock", "The clock is right.")
	}
}

// hearing judges what keeps announcements and streams from being heard.
func (j *judge) hearing(m machine.Facts) {
	for _, port := range slices.Sorted(maps.Keys(m.Shut)) {
		j.soon("port_shut", "Find what holds it (ss -ulpn) and have it share the port, or stop it.",
			"UDP port %d cannot be listened on (%s): what cameras announce there is not heard.", port, m.Shut[port])
	}
	if m.ReceiveBuffer > 0 && m.ReceiveBuffer < goodBuffer {
		j.soon("small_buffers", "sysctl -w net.core.rmem_max=4194304, and the same in /etc/sysctl.d.",
			"The kernel gives a socket %d bytes at most for what arrives: streams by UDP lose packets that nobody else loses.", m.ReceiveBuffer)
	}
	if m.Groups > 0 && m.Groups < leastGroups {
		j.soon("few_groups", "sysctl -w net.ipv4.igmp_max_memberships=100, and the same in /etc/sysctl.d.",
			"A socket may join %d multicast groups.", m.Groups)
	}
	for _, c := range m.Cards {
		switch {
		case c.MulticastProblem != "":
			j.soon("no_multicast", fmt.Sprintf("Let multicast in on %s, and UDP answers from port 3702, or name the addresses of cameras yourself.",
				c.Name), "Multicast does not work on %s: %s. Cameras there are found by a sweep of the range only.", c.Name, c.MulticastProblem)
		case c.Wireless:
			j.soon("wireless", "Use a cable, or switch client isolation off at the access point.",
				"%s is a radio: many access points keep their clients apart, and then no announcement arrives.", c.Name)
		}
	}
	for _, r := range m.Routes {
		switch {
		case r.Card == "":
			j.ill("no_route", "Give the machine an address in that network, or a gateway to it; or run a worker there.",
				"Nothing leads from here to %s.", r.Range)
		case r.Beyond:
			j.soon("beyond_router", "Sweep it by its range, or run a worker in that network.",
				"%s lies behind a router: announcements do not cross it.", r.Range)
		}
	}
}
