package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
)

// passed returns the socket that systemd has opened for this process, as a .socket unit says; nil where it has opened none.
func passed() (net.Listener, error) {
	list, err := activation.Listeners()
	if err != nil || len(list) == 0 {
		return nil, err
	}
	for _, l := range list[1:] {
		l.Close()
	}
	if len(list) > 1 || list[0] == nil {
		return nil, errors.New("systemd has passed other sockets than the one to serve on: one ListenStream= belongs into the .socket unit")
	}
	if _, ok := list[0].Addr().(*net.TCPAddr); !ok {
		return nil, fmt.Errorf("systemd has passed the socket %s: ListenStream= takes an address and a port", list[0].Addr())
	}
	return list[0], nil
}

// tellReady tells systemd that this process is ready, where it waits for that, and then again and again that it is well, as often as the
// unit's WatchdogSec= asks for. well is asked before each time; where it fails nothing is told, and systemd starts the process anew.
func tellReady(ctx context.Context, log *slog.Logger, well func(context.Context) error) {
	if _, err := daemon.SdNotify(false, daemon.SdNotifyReady); err != nil {
		log.Warn("systemd could not be told that the server is ready", "err", err)
	}
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		return
	}
	go func() {
		defer daemon.SdNotify(false, daemon.SdNotifyStopping)
		beat := time.NewTicker(every / 3)
		defer beat.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
			}
			asked, cancel := context.WithTimeout(ctx, every/3)
			err := well(asked)
			cancel()
			if err != nil {
				log.Warn("the server is not well", "err", err)
				continue
			}
			daemon.SdNotify(false, daemon.SdNotifyWatchdog)
		}
	}()
}
