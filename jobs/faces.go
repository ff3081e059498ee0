package jobs

import (
	"context"
	"errors"
	"math"
	"net"
	"net/http"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/fit"
	"unlatch/core/ground/release"
	"unlatch/core/ground/tries"
	"unlatch/core/wire/discovery"
	"unlatch/core/work/face"
)

// faces are the ONVIF devices that this process is, in front of its relays.
type faces struct {
	env  *env
	host string // on which they listen; "" where none are made
	// announcer answers those who look for them.
	announcer discovery.Announcer
	wrong     tries.Counter
	up        map[uuid.UUID]*oneFace
}

// oneFace is a face that answers.
type oneFace struct {
	is     face.Face
	server *http.Server
}

// Bounds of a face's server.
const (
	faceReadBy  = 10 * time.Second
	faceHeaders = 16 << 10
)

func newFaces(e *env, host string) *faces {
	return &faces{env: e, host: host, up: map[uuid.UUID]*oneFace{}}
}

// set has these relays faces, and no others.
func (x *faces) set(ctx context.Context, list []openedRelay) {
	if x.host == "" {
		return
	}
	wanted := map[uuid.UUID]face.Face{}
	for _, r := range list {
		if at, err := netip.ParseAddrPort(r.At); r.FacePort == 0 || err != nil || !ownAddress(at.Addr()) {
			continue // another worker's, where it has one
		}
		f, err := x.faceOf(ctx, r)
		if err != nil {
			x.env.log.Warn("a relay has no face now", "path", r.Path, "err", err)
			continue
		}
		wanted[r.ID] = f
	}
	for id, one := range x.up {
		if now, ok := wanted[id]; !ok || !sameFace(one.is, now) {
			one.server.Close()
			delete(x.up, id)
		}
	}
	var announced []discovery.Announced
	for id, f := range wanted {
		if x.up[id] == nil {
			one, err := x.open(f)
			if err != nil {
				x.env.log.Warn("the face of a relay cannot answer", "at", f.At, "err", err)
				continue
			}
			x.up[id] = one
		}
		announced = append(announced, discovery.Announced{Endpoint: f.Endpoint(), Scopes: f.Scopes(), Address: f.Address(), From: f.At.Addr()})
	}
	x.announcer.Set(announced)
}

// ownAddress reports whether an address is this machine's.
func ownAddress(a netip.Addr) bool {
	return a.IsLoopback() || slices.Contains(machineAddresses(), a.Unmap())
}

// sameFace reports whether a face answers as before.
func sameFace(a, b face.Face) bool {
	a.Snapshot, b.Snapshot = nil, nil
	return a.Secret.Reveal() == b.Secret.Reveal() && reflect.DeepEqual(a, b)
}

// open lets a face answer.
func (x *faces) open(f face.Face) (*oneFace, error) {
	l, err := net.Listen("tcp", net.JoinHostPort(x.host, strconv.Itoa(int(f.At.Port()))))
	if err != nil {
		return nil, err
	}
	s := &http.Server{Handler: face.New(f, &x.wrong), ReadHeaderTimeout: faceReadBy, ReadTimeout: faceReadBy, MaxHeaderBytes: faceHeaders,
		IdleTimeout: time.Minute}
	go s.Serve(l)
	return &oneFace{f, s}, nil
}

// close ends all.
func (x *faces) close() {
	for _, one := range x.up {
		one.server.Close()
	}
}

var errNotProven = errors.New("the stream is not proven")

// faceOf returns the face of a relay: what was measured of its stream, as it is served on.
func (x *faces) faceOf(ctx context.Context, r openedRelay) (f face.Face, err error) {
	at, err := netip.ParseAddrPort(r.At)
	if err != nil {
		return f, err
	}
	d, err := x.env.store.Devices.Get(ctx, r.Device)
	if err != nil {
		return f, err
	}
	s, known := d.Status.FitStreams()[r.Role]
	if !known {
		return f, errNotProven
	}
	s = fit.Through(s, r.Form.V, int(at.Port()))
	return face.Face{ID: r.ID.String(), Name: d.Latch().Title, At: netip.AddrPortFrom(at.Addr(), uint16(r.FacePort)), User: r.User,
		Secret: r.secret, Version: release.Version,
		Stream: face.Stream{URI: "rtsp://" + r.At + "/" + r.Path, Codec: s.Codec, Profile: s.Profile, Width: s.Width, Height: s.Height,
			FPS: s.FPS, Kbps: s.Kbps, GOP: int(math.Round(s.GOPSeconds * s.FPS)), Sound: s.Audio},
		Snapshot: func(ctx context.Context) ([]byte, error) { return x.env.store.Devices.StillOf(ctx, r.Device) }}, nil
}
