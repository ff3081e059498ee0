package main

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Systemd hears that the process is ready, that it is well for as long as it is, and that it stops.
func TestSystemdHearsHowTheServerIs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "notify")
	heard, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer heard.Close()
	t.Setenv("NOTIFY_SOCKET", path)
	t.Setenv("WATCHDOG_USEC", strconv.Itoa(int((60 * time.Millisecond).Microseconds())))
	t.Setenv("WATCHDOG_PID", strconv.Itoa(os.Getpid()))
	read := func() string {
		b := make([]byte, 100)
		require.NoError(t, heard.SetReadDeadline(time.Now().Add(30*time.Second)))
		n, err := heard.Read(b)
		require.NoError(t, err)
		return string(b[:n])
	}
	var ill atomic.Bool
	asked := make(chan struct{}, 100)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	tellReady(ctx, slog.New(slog.DiscardHandler), func(context.Context) error {
		if !ill.Load() {
			return nil
		}
		asked <- struct{}{}
		return errors.New("the database does not answer")
	})
	assert.Equal(t, "READY=1", read())
	for range 3 {
		assert.Equal(t, "WATCHDOG=1", read())
	}
	ill.Store(true)
	for range 3 {
		<-asked
	}
	stop()
	said := read()
	for said == "WATCHDOG=1" { // told before it fell ill
		said = read()
	}
	assert.Equal(t, "STOPPING=1", said)
}

func TestNobodyIsToldWhereNobodyWaits(t *testing.T) {
	t.Setenv("NOTIFY_SOCKET", "")
	t.Setenv("WATCHDOG_USEC", "")
	tellReady(context.Background(), slog.New(slog.DiscardHandler), func(context.Context) error {
		t.Error("asked")
		return nil
	})
	l, err := passed()
	assert.NoError(t, err)
	assert.Nil(t, l)
}
