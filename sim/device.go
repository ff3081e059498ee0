package sim

import (
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"unlatch/core/wire/onvif"
	"unlatch/core/wire/rtsp"
)

// A device is one running stand-in.
type device struct {
	Device
	world      *World
	net        network // guarded by world.mu
	restarting atomic.Bool
	asked      atomic.Int64
	probed     atomic.Int64
	lock       lock
	maker      maker
	webPort    int
	rtspPort   int
	services   map[string]service
	nonce      string
	epoch      time.Time
	sends      atomic.Pointer[[]feed] // replaced whole when an encoder is set anew
	shown      atomic.Pointer[[]feed] // what it says that it sends, where that is another thing; nil for none
	shownFor   atomic.Int64           // how often it still says so, of one that forgets
	texts      texts
	moves      moves
	casting    casting
	setup      *setup
	setting    sync.Mutex   // one change of its streams at a time
	streams    *rtsp.Server // nil for none
	secure     *rtsp.Server // over TLS, or within HTTP; nil for none
	recorder   *recorder
	web        *http.Server
	pages      []*http.Server
	discover   *net.UDPConn
}

// sending returns the streams that the device sends now. The list is not changed, only replaced.
func (d *device) sending() []feed { return *d.sends.Load() }

// named returns the address that the device puts into its answers, with a port.
func (d *device) named(port int) string {
	host := d.Address.String()
	if d.Defects.NamesAddress != "" {
		host = d.Defects.NamesAddress
	}
	return net.JoinHostPort(host, strconv.Itoa(port))
}

// base returns where the device's web side is, as it tells it.
func (d *device) base() string {
	if d.Defects.HTTPS == "only" {
		return "https://" + d.named(webTLS)
	}
	return "http://" + d.named(d.webPort)
}

// xaddr returns the device service's address as discovery tells it.
func (d *device) xaddr() string { return d.base() + "/onvif/device_service" }

// toTLS sends everybody to the web port for TLS.
func (d *device) toTLS(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "https://"+net.JoinHostPort(d.Address.String(), strconv.Itoa(webTLS))+r.URL.RequestURI(),
		http.StatusMovedPermanently)
}

// listen opens a TCP port on the device's address. A port that needs root falls back to one 10,000 higher.
func listen(addr string, port int) (net.Listener, int, error) {
	l, err := net.Listen("tcp4", net.JoinHostPort(addr, strconv.Itoa(port)))
	if errors.Is(err, os.ErrPermission) && port < 1024 {
		port += 10000
		l, err = net.Listen("tcp4", net.JoinHostPort(addr, strconv.Itoa(port)))
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, 0, fmt.Errorf("%s:%d is in use, perhaps by stand-ins that are already running: stop them, or give the scenario other "+
			"addresses", addr, port)
	}
	return l, port, err
}

func (d *device) start(ctx context.Context, o Options, group *errgroup.Group) error {
	d.maker = makers[d.Maker]
	d.nonce, d.epoch = randomHex(), time.Now()
	d.lock.until = d.epoch.Add(time.Duration(d.Defects.LockedSeconds) * time.Second)
	if d.Shares != "" {
		d.webPort, d.discover = d.maker.web, d.world.named(d.Shares).discover
		return nil
	}
	web, webPort, err := listen(d.Address.String(), d.maker.web)
	if err != nil {
		return err
	}
	if d.Defects.HTTPS == "only" {
		web.Close()
	}
	d.webPort, d.rtspPort = webPort, d.maker.rtsp
	d.services = map[string]service{}
	switch d.Kind {
	case "recorder":
		d.services["/onvif/device_service"] = service{onvif.NSDevice, d.deviceService}
		if d.recorder, err = newRecorder(ctx, d, o); err == nil && len(d.Channels) > 0 {
			err = errors.Join(d.startStreams(ctx, group), d.startPages(group))
		}
	case "camera":
		if !d.maker.mute {
			d.services["/onvif/device_service"] = service{onvif.NSDevice, d.deviceService}
		}
		err = d.startStreams(ctx, group)
	}
	if err != nil {
		return errors.Join(err, web.Close())
	}
	d.web = &http.Server{Handler: d.soapHandler(), ReadHeaderTimeout: 5 * time.Second,
		ErrorLog: log.New(io.Discard, "", 0)} // whoever speaks plainly to a TLS port is no news here
	if d.Defects.HTTPS == "redirects" {
		door := &http.Server{Handler: http.HandlerFunc(d.toTLS), ReadHeaderTimeout: 5 * time.Second}
		d.pages = append(d.pages, door)
		group.Go(func() error { return ignoreClosed(door.Serve(web)) })
	} else {
		group.Go(func() error { return ignoreClosed(d.web.Serve(web)) })
	}
	if d.TLS != "" {
		if err := d.startTLS(d.web.Serve, group); err != nil {
			return err
		}
	}
	return d.startDiscovery(group)
}

func (d *device) startStreams(ctx context.Context, group *errgroup.Group) error {
	if d.maker.mute {
		return d.openStreams(ctx, group)
	}
	if !d.Defects.Media2Only {
		d.services["/onvif/"+map[bool]string{true: "m1", false: "media"}[d.maker.media2]] = service{onvif.NSMedia, d.mediaService}
	}
	if d.PTZ != nil {
		d.services["/onvif/ptz"] = service{onvif.NSPTZ, d.ptzService}
	}
	if d.maker.media2 || d.Defects.Media2Only {
		d.services["/onvif/m2"] = service{onvif.NSMedia2, d.media2Service}
	}
	return d.openStreams(ctx, group)
}

func (d *device) openStreams(ctx context.Context, group *errgroup.Group) error {
	if !d.streaming() || d.Defects.Transport == "tls" || d.Defects.Transport == "tunnel" {
		return nil
	}
	l, port, err := listen(d.Address.String(), d.maker.rtsp)
	if err != nil {
		return err
	}
	d.rtspPort = port
	d.streams = newStreamServer(d)
	d.castAlways(ctx, group)
	group.Go(func() error { return ignoreClosed(d.streams.Serve(ctx, l)) })
	return nil
}

// startPages opens the recorder's ports that lead to the pages of the cameras behind it.
func (d *device) startPages(group *errgroup.Group) error {
	for _, c := range d.Channels {
		if c.Page == 0 {
			continue
		}
		l, _, err := listen(d.Address.String(), c.Page)
		if err != nil {
			return err
		}
		page := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, "<!doctype html><title>%[1]s</title><h1>%[1]s</h1><p>%[2]s, by way of the recorder", html.EscapeString(c.Name),
				c.Address)
		})}
		d.pages = append(d.pages, page)
		group.Go(func() error { return ignoreClosed(page.Serve(l)) })
	}
	return nil
}

func ignoreClosed(err error) error {
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

func (d *device) stop() {
	if d.web != nil {
		d.web.Close()
	}
	for _, p := range d.pages {
		p.Close()
	}
	for _, s := range []*rtsp.Server{d.streams, d.secure} {
		if s != nil {
			s.Close()
		}
	}
	d.casting.stop()
	if d.recorder != nil {
		d.recorder.stop()
	}
	if d.discover != nil && d.Shares == "" {
		d.discover.Close()
	}
}

// scopes describes the device in WS-Discovery (ONVIF Core Specification §7.3.2.2).
func (d *device) scopes() string {
	esc := strings.NewReplacer(" ", "%20", "/", "%2F").Replace
	return strings.Join([]string{
		"onvif://www.onvif.org/type/" + d.discoveryType(), "onvif://www.onvif.org/Profile/Streaming",
		"onvif://www.onvif.org/name/" + esc(d.maker.name+" "+d.Model), "onvif://www.onvif.org/hardware/" + esc(d.Model),
	}, " ")
}
