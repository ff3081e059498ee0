package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unlatch/sim"
)

// controlSocket is where stand-ins that run listen for trouble: a file that only their own user reads and writes.
func controlSocket(data string) string { return filepath.Join(data, "sim", "control.sock") }

// listenForTrouble takes trouble for the stand-ins until ctx ends.
func listenForTrouble(ctx context.Context, w *sim.World, data string) error {
	at := controlSocket(data)
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	os.Remove(at) // of a process that was killed
	l, err := net.Listen("unix", at)
	if err != nil {
		return fmt.Errorf("listening for trouble: %w", err)
	}
	s := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		var t sim.Trouble
		if err := json.NewDecoder(io.LimitReader(r.Body, 4<<10)).Decode(&t); err != nil {
			http.Error(out, err.Error(), http.StatusBadRequest)
			return
		}
		if err := w.Trouble(t); err != nil {
			http.Error(out, err.Error(), http.StatusConflict)
		}
	})}
	go s.Serve(l)
	context.AfterFunc(ctx, func() { s.Close() })
	return os.Chmod(at, 0o600)
}

func troubleCommand() *cobra.Command {
	var data string
	c := &cobra.Command{Use: "trouble KIND NAME [TO]", Short: "Make trouble for a stand-in that runs",
		Long: "Make trouble for a stand-in that runs, in a demo or by unlatch sim: NAME is its name or address.\n\n" + troubleHelp(),
		Example: "  unlatch sim trouble cover \"Platform clock\"\n  unlatch sim trouble address Footbridge 127.40.1.99\n" +
			"  unlatch sim trouble slot Footbridge \"Overlea Desk\"\n  unlatch sim trouble cut 127.40.1.8/29",
		Args: cobra.RangeArgs(2, 3),
		RunE: func(cmd *cobra.Command, args []string) error {
			t := sim.Trouble{Kind: args[0], Name: args[1]}
			if len(args) > 2 {
				t.To = args[2]
			}
			return sendTrouble(cmd.Context(), controlSocket(data), t)
		}}
	c.Flags().StringVar(&data, "data", ".unlatch", "the data folder of the stand-ins")
	return c
}

// troubleHelp lists the kinds.
func troubleHelp() string {
	kinds := sim.TroubleKinds()
	var b strings.Builder
	for _, k := range slices.Sorted(maps.Keys(kinds)) {
		fmt.Fprintf(&b, "  %-9s %s\n", k, kinds[k])
	}
	b.WriteString("  slot      takes the camera NAME off the target TO\n  cut       takes the subnet NAME off the network\n" +
		"  mend      brings it back")
	return b.String()
}

func sendTrouble(ctx context.Context, socket string, t sim.Trouble) error {
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	c := http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	}}}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://stand-ins/trouble", bytes.NewReader(body))
	if err != nil {
		return err
	}
	res, err := c.Do(req)
	if err != nil {
		return fmt.Errorf("no stand-ins run with this data folder (%w): start a demo, or unlatch sim", err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
		return errors.New(strings.TrimSpace(string(text)))
	}
	return nil
}
