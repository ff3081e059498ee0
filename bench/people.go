package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/sim/scene"
	"unlatch/store"
)

// Sizes of what many people and a long record are measured with.
const (
	recordLines = 1_000_000
	listeners   = 50
	opened      = 200
)

// peopled measures what rights cost, what an act costs while many look, and how a long record is searched and checked.
func peopled(ctx context.Context, _ *scene.Library) ([]figure, error) {
	l, err := layLine(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer l.close()
	s, site, devices, owner := l.store, l.site, l.devices, l.page
	rights, err := rightsCost(ctx, s, owner, site)
	if err != nil {
		return nil, err
	}
	busy, err := whileFiftyLook(ctx, s, owner, site, devices)
	if err != nil {
		return nil, err
	}
	record, err := longRecord(ctx, s, site, devices)
	return append(append(rights, busy...), record...), err
}

// as returns a page of somebody new, who is given a site.
func (p *page) as(ctx context.Context, s *store.Store, name string, role act.Role, site uuid.UUID) (*page, error) {
	id, token := uuid.New(), uuid.NewString()
	if _, err := s.Pool.Exec(ctx, "INSERT INTO people (id, name, password_hash, role) VALUES ($1, $2, '', $3)", id, name, role); err != nil {
		return nil, err
	}
	if _, err := s.Pool.Exec(ctx, "INSERT INTO person_sites (person_id, site_id) VALUES ($1, $2)", id, site); err != nil {
		return nil, err
	}
	later := time.Now().Add(time.Hour)
	session := store.NewSession{Person: id, Token: token, Until: later, Browser: token, BrowserUntil: later}
	if err := s.People.StartSession(ctx, session); err != nil {
		return nil, err
	}
	at, err := url.Parse(p.url)
	if err != nil {
		return nil, err
	}
	jar, _ := cookiejar.New(nil)
	jar.SetCookies(at, []*http.Cookie{{Name: "unlatch_session", Value: token, Path: "/"}})
	return &page{p.url, &http.Client{Jar: jar}}, nil
}

// rightsCost compares the list of devices for an engineer, whose rights are looked at, with that for an owner, who has all.
func rightsCost(ctx context.Context, s *store.Store, owner *page, site uuid.UUID) ([]figure, error) {
	engineer, err := owner.as(ctx, s, "Engineer", act.Engineer, site)
	if err != nil {
		return nil, err
	}
	path := "/api/sites/" + site.String() + "/devices"
	var without, with []time.Duration
	for range 40 { // in turn, so that both see the same machine
		for _, x := range []struct {
			p    *page
			into *[]time.Duration
		}{{owner, &without}, {engineer, &with}} {
			took, _, err := x.p.get(path)
			if err != nil {
				return nil, err
			}
			*x.into = append(*x.into, took)
		}
	}
	ratio := float64(median(with)) / float64(median(without))
	return []figure{{"Devices of 2,000 for an engineer, with rights and site looked at", ms(median(with)),
		ms(median(without)) + " for an owner", fmt.Sprintf("%.2f", ratio), under(1.1, ratio, "")}}, nil
}

// whileFiftyLook measures an act while fifty people listen to the site's events and 200 cameras are being opened.
func whileFiftyLook(ctx context.Context, s *store.Store, owner *page, site uuid.UUID, devices []uuid.UUID) ([]figure, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var all sync.WaitGroup
	for n := range listeners {
		viewer, err := owner.as(ctx, s, fmt.Sprint("Viewer ", n), act.Viewer, site)
		if err != nil {
			return nil, err
		}
		req, err := http.NewRequestWithContext(ctx, "GET", owner.url+"/api/sites/"+site.String()+"/events", nil)
		if err != nil {
			return nil, err
		}
		res, err := viewer.client.Do(req)
		if err != nil {
			return nil, err
		}
		all.Go(func() { io.Copy(io.Discard, res.Body); res.Body.Close() })
	}
	ended := make(chan struct{})
	go func() { // what opening 200 cameras writes: six findings each, as fast as a run of them does
		defer close(ended)
		pace := time.NewTicker(20 * time.Second / (opened * 6))
		defer pace.Stop()
		for i := range opened * 6 {
			d := &store.Device{ID: devices[i%opened], Site: site}
			reached := evidence.Reached{Addr: addressOf(i % opened), Service: "http://again/", SkewMS: int64(i)}
			if s.Devices.Record(ctx, d, nil, store.Finding{Body: reached}) != nil {
				return
			}
			<-pace.C
		}
	}()
	var took []time.Duration
	path := "/api/sites/" + site.String() + "/open"
	for n := opened; ; n++ {
		select {
		case <-ended:
			cancel()
			all.Wait()
			what := fmt.Sprintf("An act while %d people listen and %d cameras open, p95 of %d", listeners, opened, len(took))
			return []figure{{what, ms(p95(took)), "", "", under(300, msOf(p95(took)), " ms")}}, nil
		default:
		}
		raw, _ := json.Marshal(map[string]any{"devices": devices[n%len(devices) : n%len(devices)+1]})
		began := time.Now()
		res, err := owner.client.Post(owner.url+path, "application/json", bytes.NewReader(raw))
		if err != nil {
			return nil, err
		}
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
		took = append(took, time.Since(began))
		if res.StatusCode != http.StatusAccepted {
			return nil, fmt.Errorf("an act was answered with %d", res.StatusCode)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// longRecord measures a record of a million lines: filtered, and checked from its first line to its last.
func longRecord(ctx context.Context, s *store.Store, site uuid.UUID, devices []uuid.UUID) ([]figure, error) {
	if err := fillRecord(ctx, s, site, devices); err != nil {
		return nil, err
	}
	out := []figure{}
	for _, f := range []struct {
		by     string
		filter func(i int) store.LineFilter
	}{
		{"a person", func(i int) store.LineFilter { return store.LineFilter{Person: fmt.Sprint("Person ", i%20)} }},
		{"an act", func(i int) store.LineFilter { return store.LineFilter{Act: acts[i%len(acts)]} }},
		{"a device", func(i int) store.LineFilter { return store.LineFilter{Device: devices[i*31%len(devices)]} }},
		{"a rare word", func(i int) store.LineFilter { return store.LineFilter{Text: serial(int64(i+1) * 4993)} }},
		{"a frequent word", func(int) store.LineFilter { return store.LineFilter{Text: "long"} }},
		{"all four", func(i int) store.LineFilter {
			return store.LineFilter{Person: fmt.Sprint("Person ", i%20), Act: acts[i%len(acts)], Device: devices[i], Text: "long"}
		}},
	} {
		var took []time.Duration
		for i := range 60 {
			filter := f.filter(i)
			filter.Limit = 200
			began := time.Now()
			if _, err := s.Record.List(ctx, filter); err != nil {
				return nil, err
			}
			took = append(took, time.Since(began))
		}
		out = append(out, figure{"Record of a million lines by " + f.by + ", p95", ms(p95(took)), "", "", under(100, msOf(p95(took)), " ms")})
	}
	began := time.Now()
	chain, err := s.Verify(ctx, "")
	if err != nil || chain.Broken != nil {
		return nil, fmt.Errorf("the record does not hold: %v: %w", chain, err)
	}
	rate := float64(chain.Lines) / time.Since(began).Seconds()
	return append(out, figure{"The same, verified", fmt.Sprintf("%.0f lines a second", rate), "", "", atLeast(50_000, rate, " a second")}), nil
}

var acts = []act.Name{"place", "open-latches", "tune-devices", "reveal-sign-in", "change-site", "start-sweep", "remove-from-target"}

// serial is a number as makers print it on a device.
func serial(n int64) string {
	sum := sha256.Sum256([]byte(fmt.Sprint(n)))
	return fmt.Sprintf("%X", sum[:5])
}

// fillRecord writes a record of a million lines as it would stand: each line with the hash of the one before.
func fillRecord(ctx context.Context, s *store.Store, site uuid.UUID, devices []uuid.UUID) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	for _, sql := range []string{"SET session_replication_role = replica", "DELETE FROM audit", "DROP INDEX audit_words"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	last, at := make([]byte, 32), time.Now().Add(-recordLines*time.Minute).Truncate(time.Microsecond)
	n := int64(0)
	rows := pgx.CopyFromFunc(func() ([]any, error) {
		if n == recordLines {
			return nil, nil
		}
		n++
		device := devices[n*7%int64(len(devices))]
		l := store.Line{ID: uuid.New(), Number: n, At: at.Add(time.Duration(n) * time.Minute), Person: fmt.Sprint("Person ", n%20),
			Act: acts[n%int64(len(acts))], Subject: serial(n), Site: "Long line", SiteID: &site,
			Device:   fmt.Sprint("Camera ", n%2000),
			DeviceID: &device, Devices: []uuid.UUID{device}}
		last = l.HashAfter(last)
		return []any{l.ID, l.Number, l.At, l.Person, l.Act, l.Subject, l.Site, site, l.Device, device, []uuid.UUID{device},
			bytes.Clone(last)}, nil
	})
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"audit"}, []string{"id", "number", "at", "person", "act", "subject", "site", "site_id",
		"device", "device_id", "devices", "hash"}, rows); err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "UPDATE record_head SET number = $1, hash = $2", n, last); err != nil {
		return err
	}
	for _, sql := range []string{"CREATE INDEX audit_words ON audit USING gin (words gin_trgm_ops)", "ANALYZE audit",
		"SET session_replication_role = DEFAULT"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}
