package jobs

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"unlatch/core/work/bringup"
	"unlatch/core/work/live"
)

// PicturesPath is where the server takes the connections by which workers elsewhere send pictures.
const PicturesPath = "/api/workers/live"

// A ServerAddress is where a worker elsewhere finds its server.
type ServerAddress struct {
	URL *url.URL
	// Fingerprint is the SHA-256 of the server's certificate in hex, if the server made the certificate itself; "" trusts what the
	// machine trusts.
	Fingerprint string
}

// A FingerprintError is a server that shows another certificate than the one that was told.
type FingerprintError struct{ Shown string }

func (e *FingerprintError) Error() string {
	return "the server shows another certificate than the one of --server-fingerprint: its SHA-256 is " + e.Shown
}

// client checks the server's certificate by its fingerprint, where one was told.
func (a ServerAddress) client() *http.Client {
	if a.Fingerprint == "" {
		return http.DefaultClient
	}
	wanted := strings.ToLower(strings.ReplaceAll(a.Fingerprint, ":", ""))
	check := func(s tls.ConnectionState) error {
		sum := sha256.Sum256(s.PeerCertificates[0].Raw)
		if shown := hex.EncodeToString(sum[:]); shown != wanted {
			return &FingerprintError{shown}
		}
		return nil
	}
	// The fingerprint is checked in place of the names and of who has signed.
	return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true, VerifyConnection: check}}}
}

// ping is how often a silent connection is tried: what stands between may forget it.
const ping = 20 * time.Second

// SendPictures keeps a connection to the server open by which the streams go that people look at there, until ctx ends. The server dials
// nothing: it asks by this connection.
func (w *Workers) SendPictures(ctx context.Context, to ServerAddress) {
	for n := 0; ctx.Err() == nil; n++ {
		began := time.Now()
		if err := w.sendPictures(ctx, to); err != nil && ctx.Err() == nil {
			w.env.log.Warn("pictures cannot be sent to the server at the moment", "server", to.URL.Host, "err", err)
		}
		if time.Since(began) > time.Minute {
			n = 0
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(min(n+1, 10)) * time.Second):
		}
	}
}

func (w *Workers) sendPictures(ctx context.Context, to ServerAddress) error {
	lease, ok := w.env.held()
	if !ok {
		return fmt.Errorf("the database is away")
	}
	pass, err := w.env.store.Workers.Pass(lease.Worker, time.Now())
	if err != nil {
		return err
	}
	at := *to.URL
	at.Scheme = strings.Replace(at.Scheme, "http", "ws", 1)
	dial, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	conn, _, err := websocket.Dial(dial, at.JoinPath(PicturesPath).String(), &websocket.DialOptions{HTTPClient: to.client(),
		HTTPHeader: http.Header{"Authorization": {"Bearer " + pass}}})
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	go Beat(ctx, conn)
	return w.servePictures(ctx, Pipe{conn})
}

// servePictures sends the streams that the server asks for on a pipe, until that ends.
func (w *Workers) servePictures(ctx context.Context, p live.Pipe) error {
	ctx, end := w.env.leased(ctx) // a worker that has lost its lease shows nothing
	defer end()
	return live.Serve(ctx, p, func(ctx context.Context, device, role string, wish live.Wish) (*live.Viewer, error) {
		id, err := uuid.Parse(device)
		if err != nil {
			return nil, err
		}
		return w.Watch(ctx, id, role, wish)
	}, func(err error) *live.Trouble {
		t, _ := bringup.NotShown(err)
		return t
	})
}

// Beat keeps a connection from being forgotten by what stands between, and ends it where the other end has gone.
func Beat(ctx context.Context, conn *websocket.Conn) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(ping):
		}
		answer, cancel := context.WithTimeout(ctx, ping)
		err := conn.Ping(answer)
		cancel()
		if err != nil {
			conn.CloseNow()
			return
		}
	}
}

// A Pipe is a WebSocket as the pipe of live pictures.
type Pipe struct{ *websocket.Conn }

// sendTime is how long one message may take: a connection that takes none for so long is broken.
const sendTime = 15 * time.Second

// Send implements live.Pipe.
func (p Pipe) Send(ctx context.Context, b []byte) error {
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	return p.Write(ctx, websocket.MessageBinary, b)
}

// Receive implements live.Pipe.
func (p Pipe) Receive(ctx context.Context) ([]byte, error) {
	p.SetReadLimit(live.MaxPiped)
	_, b, err := p.Read(ctx)
	return b, err
}
