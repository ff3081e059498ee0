//go:build linux

package netns

import (
	"io"
	"time"
)

// CopyLater copies what comes from one end of a connection to the other as a long line does: each piece so much later, without holding up
// what comes after it. later is asked for each piece. It returns when either end has ended, and closes the one that it writes to.
func CopyLater(to io.WriteCloser, from io.Reader, later func() time.Duration) {
	type piece struct {
		at  time.Time
		raw []byte
	}
	pieces := make(chan piece, 4096)
	go func() {
		defer close(pieces)
		for {
			raw := make([]byte, 32<<10)
			n, err := from.Read(raw)
			if n > 0 {
				pieces <- piece{time.Now().Add(later()), raw[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	defer to.Close()
	for p := range pieces {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.raw); err != nil {
			return
		}
	}
}
