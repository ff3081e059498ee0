package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// controlSocket is where stand-ins that run listen for trouble: a file that only their own user reads and writes.
func controlSocket(data string) string { return filepath.Join(data, "sim", "control.sock") }

// ListenForTrouble takes the trouble that SendTrouble sends with the same data folder, until ctx ends.
func (w *World) ListenForTrouble(ctx context.Context, data string) error {
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
		var t Trouble
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

// SendTrouble makes trouble for stand-ins that run in another process, by their data folder.
func SendTrouble(ctx context.Context, data string, t Trouble) error {
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	c := http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", controlSocket(data))
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
