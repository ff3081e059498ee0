// Package machine looks at the computer that a server or a worker runs on: what the work needs and the computer may lack. It only looks;
// core/decide/doctor judges.
package machine

import (
	"bufio"
	"context"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"unlatch/core/ground/address"
	"unlatch/core/ground/release"
	"unlatch/core/ground/wiretext"
)

// Facts are what was seen of a computer.
type Facts struct {
	Name       string        `json:"name"` // its host name
	At         time.Time     `json:"at"`   // by its own clock
	Program    release.Build `json:"program"`
	Processors int           `json:"processors"`
	// MemoryFree and MemorySize are in bytes; 0 where the system does not tell.
	MemoryFree uint64 `json:"memory_free,omitempty"`
	MemorySize uint64 `json:"memory_size,omitempty"`
	Disk       Disk   `json:"disk"`
	// FFmpeg is the version of the installed ffmpeg, "" where there is none.
	FFmpeg string `json:"ffmpeg,omitempty"`
	// OpenFiles is how many files and sockets the process may have open.
	OpenFiles uint64 `json:"open_files"`
	// ReceiveBuffer is the largest receive buffer of a socket in bytes (socket(7), rmem_max), and Groups how many multicast groups a socket
	// may join (ip(7), igmp_max_memberships). 0 where the system does not tell.
	ReceiveBuffer int `json:"receive_buffer,omitempty"`
	Groups        int `json:"groups,omitempty"`
	// ClockKept is whether the kernel says that something keeps its clock (adjtimex(2)); nil where it says nothing.
	ClockKept *bool `json:"clock_kept,omitempty"`
	// Shut are the ports that announcements come to and that cannot be listened on, with the reason.
	Shut  map[int]string `json:"shut,omitempty"`
	Cards []Card         `json:"cards"`
	// Routes says how each range that was asked about is reached.
	Routes []Route `json:"routes,omitempty"`
}

// A Disk is the file system that the data folder lies on.
type Disk struct {
	Folder   string `json:"folder,omitempty"`
	Free     uint64 `json:"free"` // bytes, for whom the process runs as
	Size     uint64 `json:"size"`
	ReadOnly bool   `json:"read_only,omitempty"`
}

// Options say what to look at besides what every computer has.
type Options struct {
	Folder string         // that the data lies in; "" for none
	Ranges address.Ranges // that are worked on: routes to them are looked for, and multicast is tried on the interfaces that lead there
	Ports  []int          // of announcements, UDP
}

// Look looks at this computer. What it sends does not leave it, but that it joins a group is told on the networks that lead to the ranges.
func Look(ctx context.Context, o Options) Facts {
	f := Facts{At: time.Now().UTC(), Program: release.Running(), Processors: runtime.NumCPU(), Shut: map[int]string{}}
	f.Name, _ = os.Hostname()
	f.MemorySize, f.MemoryFree = Memory()
	f.Disk = disk(o.Folder)
	f.FFmpeg = ffmpeg(ctx)
	var files syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files) == nil {
		f.OpenFiles = files.Cur
	}
	f.ReceiveBuffer, f.Groups = kernelNumber("net/core/rmem_max"), kernelNumber("net/ipv4/igmp_max_memberships")
	f.ClockKept = clockKept()
	for _, port := range o.Ports {
		if err := listen(ctx, port); err != nil {
			f.Shut[port] = wiretext.Line(err.Error(), 200)
		}
	}
	f.Cards = cards()
	f.Routes = routes(o.Ranges, f.Cards)
	for i, c := range f.Cards {
		if slices.ContainsFunc(f.Routes, func(r Route) bool { return r.Card == c.Name && !r.Beyond }) {
			f.Cards[i].MulticastProblem = multicastProblem(ctx, c.Interface)
		}
	}
	return f
}

// Memory returns how many bytes of memory the machine has, and how many of them are free (proc(5), /proc/meminfo); 0 where it does not say.
func Memory() (size, free uint64) {
	file, err := os.Open("/proc/meminfo")
	if err != nil {
		return 0, 0
	}
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		name, value, _ := strings.Cut(lines.Text(), ":")
		kb, _ := strconv.ParseUint(strings.TrimSuffix(strings.TrimSpace(value), " kB"), 10, 64)
		switch name {
		case "MemTotal":
			size = kb << 10
		case "MemAvailable":
			free = kb << 10
		}
	}
	return size, free
}

// MayTake returns how many bytes of memory a process of this machine is to take at most, so that some is left for all else: three quarters
// of what there is; 0 where that is not known.
func MayTake() int64 {
	size, _ := Memory()
	return int64(size / 4 * 3)
}

func disk(folder string) Disk {
	var s unix.Statfs_t
	if folder == "" || unix.Statfs(folder, &s) != nil {
		return Disk{Folder: folder}
	}
	return Disk{Folder: folder, Free: s.Bavail * uint64(s.Bsize), Size: s.Blocks * uint64(s.Bsize), ReadOnly: s.Flags&unix.ST_RDONLY != 0}
}

// ffmpeg returns the version that the installed program says it has.
func ffmpeg(ctx context.Context) string {
	ctx, done := context.WithTimeout(ctx, 5*time.Second)
	defer done()
	out, err := exec.CommandContext(ctx, "ffmpeg", "-hide_banner", "-version").Output()
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(out)) // "ffmpeg version 7.1 Copyright ..."
	if len(fields) < 3 {
		return "of unknown version"
	}
	return wiretext.Line(fields[2], 60)
}

// kernelNumber reads a number under /proc/sys; 0 where there is none.
func kernelNumber(name string) int {
	raw, err := os.ReadFile("/proc/sys/" + name)
	if err != nil {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(raw)))
	return n
}

func clockKept() *bool {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	if err != nil {
		return nil
	}
	kept := state != unix.TIME_ERROR && t.Status&unix.STA_UNSYNC == 0
	return &kept
}

// listen tries to listen on a UDP port as discovery does: beside others.
func listen(ctx context.Context, port int) error {
	shared := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) (err error) {
		cerr := c.Control(func(fd uintptr) {
			err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
		})
		if err != nil {
			return err
		}
		return cerr
	}}
	conn, err := shared.ListenPacket(ctx, "udp4", netip.AddrPortFrom(netip.IPv4Unspecified(), uint16(port)).String())
	if err != nil {
		return err
	}
	return conn.Close()
}
