package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
	"unlatch/core/stream/sighting"
	"unlatch/jobs"
	"unlatch/server"
	"unlatch/sim/scene"
	"unlatch/store"
	"unlatch/web"
)

const linedUp = 2000

// lineUp measures how the line-up of a site of 2,000 devices is read: everything at first, then what has changed.
func lineUp(ctx context.Context, _ *scene.Library) ([]figure, error) {
	l, err := layLine(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer l.close()
	s, site, devices, page := l.store, l.site, l.devices, l.page
	get := page.get
	path := "/api/sites/" + site.String()
	cold, raw, err := get(path + "/changes")
	if err != nil {
		return nil, err
	}
	size := len(raw)
	first, wire, err := page.loads(path+"/changes", 21)
	if err != nil {
		return nil, err
	}
	var all struct {
		Version string
		Devices []json.RawMessage
	}
	if err := json.Unmarshal(raw, &all); err != nil || len(all.Devices) != linedUp {
		return nil, errors.Join(err, fmt.Errorf("%d devices were told of", len(all.Devices)))
	}
	empty, changed, one, sites, err := lineUpAnswers(ctx, s, page, site, devices, all.Version)
	if err != nil {
		return nil, err
	}
	streams, err := streamsOf(page.url, path, page.client, p95(empty))
	if err != nil {
		return nil, err
	}
	cords, err := cordsOf(ctx, s, site, devices, page.url, strings.TrimPrefix(path, "/api"))
	if err != nil {
		return nil, err
	}
	streams = append(streams, cords...)
	floor := p95(empty)
	ratio := func(d time.Duration) string { return fmt.Sprintf("%.1f", float64(d)/float64(floor)) }
	return append([]figure{
		{"Line-up of 2,000 devices: what has changed, where nothing has, p95", ms(p95(changed)), ms(floor) + " an empty handler, p95",
			ratio(p95(changed)), under(3, float64(p95(changed))/float64(floor), "")},
		{"The same where one device has, p95", ms(p95(one)), ms(floor) + " an empty handler, p95", ratio(p95(one)),
			under(3, float64(p95(one))/float64(floor), "")},
		{"The same: everything, as a page first loads it", ms(median(first)), "", "", under(50, msOf(median(first)), " ms")},
		{"The same on the wire", fmt.Sprintf("%.2f MB of %.1f MB", float64(wire)/1e6, float64(size)/1e6), "", "",
			under(1.5, float64(wire)/1e6, " MB")},
		{"The same: the very first time after the start of the server", ms(cold), "", "", "stated"},
		{"The same: the cards of all sites, p95", ms(p95(sites)), ms(floor) + " an empty handler, p95", ratio(p95(sites)), "stated"},
	}, streams...), nil
}

// A page is somebody who is signed in to a server of this process.
type page struct {
	url    string
	client *http.Client
}

// signedInPage starts a server on a store and signs in to it.
func signedInPage(ctx context.Context, s *store.Store, q *jobs.Queue) (*page, func(), error) {
	const code = "bench-code"
	serving, end := context.WithCancel(ctx)
	h := httptest.NewServer(server.New(serving, server.Config{Store: s, Queue: q, Agent: jobs.Here{}, SetupCode: code,
		Log: slog.New(slog.DiscardHandler), Web: web.Files()}))
	stop := func() { h.Close(); end() }
	jar, _ := cookiejar.New(nil)
	p := &page{h.URL, &http.Client{Jar: jar}}
	body, _ := json.Marshal(map[string]string{"name": "keeper", "password": "a long password", "code": code})
	res, err := p.client.Post(h.URL+"/api/setup", "application/json", bytes.NewReader(body))
	if err == nil {
		res.Body.Close()
		if res.StatusCode >= 300 {
			err = fmt.Errorf("setting up was answered with %d", res.StatusCode)
		}
	}
	if err != nil {
		stop()
	}
	return p, stop, err
}

// get asks for a path, and returns how long that took.
func (p *page) get(path string) (took time.Duration, raw []byte, err error) {
	began := time.Now()
	res, err := p.client.Get(p.url + path)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	raw, err = io.ReadAll(res.Body)
	if err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s was answered with %d after %s: %.300s", path, res.StatusCode, time.Since(began), raw)
	}
	return time.Since(began), raw, err
}

// loads asks for a path n times as a browser does, and returns how long each took and how many bytes came. They stay compressed: what a
// browser does with them is not measured.
func (p *page) loads(path string, n int) (out []time.Duration, wire int64, err error) {
	for range n {
		req, err := http.NewRequest("GET", p.url+path, nil)
		if err != nil {
			return nil, 0, err
		}
		req.Header.Set("Accept-Encoding", "gzip")
		began := time.Now()
		res, err := p.client.Do(req)
		if err != nil {
			return nil, 0, err
		}
		wire, err = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if err != nil || res.StatusCode != http.StatusOK {
			return nil, 0, errors.Join(err, fmt.Errorf("%s was answered with %d", path, res.StatusCode))
		}
		out = append(out, time.Since(began))
	}
	return out, wire, nil
}

// lineUpAnswers times 400 answers of each kind: of an empty handler, of what has changed where nothing has and where one device has, and of
// the cards of all sites.
func lineUpAnswers(ctx context.Context, s *store.Store, p *page, site uuid.UUID, devices []uuid.UUID, version string) (empty, changed, one,
	sites []time.Duration, err error) {
	path := "/api/sites/" + site.String()
	var all struct {
		Version string
		Devices []json.RawMessage
	}
	for i := range 400 {
		took, _, err := p.get("/api/session")
		if err != nil {
			return nil, nil, nil, nil, err
		}
		empty = append(empty, took)
		if took, _, err = p.get(path + "/changes?since=" + version); err != nil {
			return nil, nil, nil, nil, err
		}
		changed = append(changed, took)
		if took, _, err = p.get("/api/sites"); err != nil {
			return nil, nil, nil, nil, err
		}
		sites = append(sites, took)
		if i%8 != 0 {
			continue
		}
		d := &store.Device{ID: devices[i], Site: site}
		reached := evidence.Reached{Addr: addressOf(i), Service: "http://again/", SkewMS: int64(i)}
		if err := s.Devices.Record(ctx, d, nil, store.Finding{Body: reached}); err != nil {
			return nil, nil, nil, nil, err
		}
		var raw []byte
		if took, raw, err = p.get(path + "/changes?since=" + version); err != nil {
			return nil, nil, nil, nil, err
		}
		one = append(one, took)
		if err := json.Unmarshal(raw, &all); err != nil || len(all.Devices) != 1 {
			return nil, nil, nil, nil, errors.Join(err, fmt.Errorf("%d devices were told of after one change", len(all.Devices)))
		}
		version = all.Version
	}
	return empty, changed, one, sites, nil
}

func p95(list []time.Duration) time.Duration {
	list = slices.Sorted(slices.Values(list))
	return list[len(list)*95/100]
}

func addressOf(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, 20, byte(i / 250), byte(i%250 + 1)})
}

// generate records a site of n cameras that are proven, as sweeps and jobs would.
func generate(ctx context.Context, s *store.Store, site uuid.UUID, n int) (ids []uuid.UUID, err error) {
	key, err := s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter"})
	if err != nil {
		return nil, err
	}
	run := store.Run{Site: site, Kind: "sweep", Title: "bench", Total: int64(n)}
	sweep, err := s.Runs.Start(ctx, run, func(*sql.Tx, uuid.UUID) error { return nil })
	if err != nil {
		return nil, err
	}
	for i := range n {
		at := addressOf(i)
		service := fmt.Sprintf("http://%s/onvif/device_service", at)
		id, err := s.Devices.Sight(ctx, site, &sweep.ID, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now().UTC(), Addr: at,
			Endpoint: fmt.Sprintf("urn:bench:%d", i), Kind: sighting.Camera, Name: fmt.Sprintf("Camera %d", i), XAddr: service})
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
		d := &store.Device{ID: id, Site: site}
		located := evidence.Located{Addr: at}
		findings := []store.Finding{{Body: evidence.Reached{Addr: at, Service: service}},
			{Body: evidence.SignedIn{SignIn: key, Label: "Fitter", User: "fitter", Scheme: "digest MD5",
				Info: camera.Info{Manufacturer: "Corvane", Model: "V4", Firmware: "4.2", Serial: fmt.Sprint(i)}}}}
		for n, role := range []string{"main", "sub"} {
			st := camera.Stream{Token: fmt.Sprint("p", n), Role: role, Channel: 1, URL: fmt.Sprintf("rtsp://%s/vista/%s", at, role),
				Service: "media",
				Claimed: camera.Settings{Codec: "H.264", Width: 1920 / (n + 1), Height: 1080 / (n + 1), FPS: 25, BitrateKbps: 4000 / (n +
					1)}}
			located.Streams = append(located.Streams, st)
			proof := proof.Proof{URL: st.URL, OK: true, Transport: "tcp", Auth: "digest MD5", Video: &media.Measured{Codec: "H.264",
				Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 3900}, Steps: []proof.Step{{Name: "connect", MS: 1}, {Name: "describe",
				MS: 2}}}
			findings = append(findings, store.Finding{Subject: st.Token, Body: evidence.Proof{Proof: proof, PlainURL: st.URL, Role: role,
				Settings: st.Claimed.Fingerprint()}})
		}
		findings = slices.Insert(findings, 2, store.Finding{Body: located})
		for _, f := range findings {
			if err := s.Devices.Record(ctx, d, nil, f); err != nil {
				return nil, err
			}
		}
	}
	return ids, nil
}
