package server

import (
	"sync/atomic"
	"syscall"
)

// LeastRoom is the free space below which a disk is nearly full, in bytes: a large run writes about as much.
const LeastRoom = 256 << 20

// Room watches the free space of the folder that the database lies in.
type Room struct {
	Folder string
	// Least is the free space below which it is low, in bytes; 0 means LeastRoom.
	Least uint64
	said  atomic.Bool
}

// Free returns the space that is left, in bytes; ok is false where that cannot be told.
func (r *Room) Free() (bytes uint64, ok bool) {
	var fs syscall.Statfs_t
	if r == nil || r.Folder == "" || syscall.Statfs(r.Folder, &fs) != nil {
		return 0, false
	}
	return fs.Bavail * uint64(fs.Bsize), true
}

// Low reports whether little is left.
func (r *Room) Low() bool {
	free, ok := r.Free()
	least := uint64(LeastRoom)
	if r != nil && r.Least > 0 {
		least = r.Least
	}
	return ok && free < least
}

// Turned reports whether Low has changed since the last call, and what it is.
func (r *Room) Turned() (low, turned bool) {
	low = r.Low()
	return low, r.said.Swap(low) != low
}
