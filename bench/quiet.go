package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"unlatch/core/ground/address"
	"unlatch/e2e/browser"
	"unlatch/sim/scene"
	"unlatch/store"
	"unlatch/store/cluster"
)

// How an idle server is measured, and how it is used to see whether it grows.
const (
	idleCameras  = 500
	idleFor      = 2 * time.Minute
	aDayOfPages  = 1500 // loads of the line-up
	aDayOfScrape = 1440 // of the metrics: one a minute
	// collected is after how long without work the garbage collector has run: it does so every two minutes at the latest.
	collected = 150 * time.Second
)

const scrapeToken = "bench-scrape-token"

// A served is a running server process with a page signed in to it.
type served struct {
	*browser.Server
	page *page
	data string
}

// serveQuietly starts the built program on an empty folder.
func serveQuietly() (s *served, err error) {
	s = &served{}
	if s.data, err = os.MkdirTemp("", "unlatch-bench-*"); err != nil {
		return s, err
	}
	os.Chmod(s.data, 0o755)
	if err := s.start("127.0.0.1:0"); err != nil {
		return s, err
	}
	jar, _ := cookiejar.New(nil)
	s.page = &page{strings.TrimSuffix(s.URL, "/"), &http.Client{Jar: jar}}
	code := regexp.MustCompile(`setup#(\S+)`).FindStringSubmatch(s.Output)
	if len(code) < 2 {
		return s, errors.New("the server prints no set-up code")
	}
	body, _ := json.Marshal(map[string]string{"name": "keeper", "password": "a long password", "code": code[1]})
	return s, s.page.post("/api/setup", "application/json", bytes.NewReader(body), nil)
}

func (s *served) start(listen string) (err error) {
	os.Setenv("UNLATCH_METRICS_TOKEN", scrapeToken)
	defer os.Unsetenv("UNLATCH_METRICS_TOKEN")
	s.Server, err = browser.StartServer("serve", "--data", s.data, "--listen", listen)
	return err
}

// killAll ends the server and its database without a warning.
func (s *served) killAll() error {
	raw, err := os.ReadFile(filepath.Join(s.data, "pg", "postmaster.pid"))
	if err != nil {
		return err
	}
	first, _, _ := strings.Cut(string(raw), "\n")
	database, err := strconv.Atoi(first)
	if err != nil {
		return err
	}
	s.Kill()
	if err := syscall.Kill(database, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
		return err
	}
	return nil
}

// again starts the server that was killed, at the address that it had.
func (s *served) again() error { return s.start(strings.TrimPrefix(s.page.url, "http://")) }

func (s *served) close() {
	if s.Server != nil {
		s.Stop()
	}
	os.RemoveAll(s.data)
}

// metric reads one metric of the process.
func (s *served) metric(name string) (float64, error) {
	q, err := http.NewRequest("GET", s.page.url+"/metrics", nil)
	if err != nil {
		return 0, err
	}
	q.Header.Set("Authorization", "Bearer "+scrapeToken)
	res, err := s.page.client.Do(q)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		if value, ok := strings.CutPrefix(lines.Text(), name+" "); ok {
			return strconv.ParseFloat(value, 64)
		}
	}
	return 0, fmt.Errorf("there is no metric %s", name)
}

// quietly measures what a server costs while nothing is to be done, and whether it grows by a day's use.
func quietly(ctx context.Context, _ *scene.Library) ([]figure, error) {
	s, err := serveQuietly()
	defer s.close()
	if err != nil {
		return nil, err
	}
	if err := s.fill(ctx); err != nil {
		return nil, err
	}
	time.Sleep(20 * time.Second) // what follows from the cameras is done
	before, err := s.metric("process_cpu_seconds_total")
	if err != nil {
		return nil, err
	}
	began := time.Now()
	time.Sleep(idleFor)
	after, err := s.metric("process_cpu_seconds_total")
	if err != nil {
		return nil, err
	}
	share := 100 * (after - before) / time.Since(began).Seconds()
	var heaps []float64
	for range 3 {
		heap, err := s.restingHeap(ctx)
		if err != nil {
			return nil, err
		}
		if heaps = append(heaps, heap); len(heaps) < 3 {
			if err := s.aDay(); err != nil {
				return nil, err
			}
		}
	}
	resident, err := s.metric("process_resident_memory_bytes")
	if err != nil {
		return nil, err
	}
	growth := heaps[2] - heaps[1]
	return []figure{
		{what: fmt.Sprintf("server with %d cameras, no watch, nothing to do", idleCameras), got: fmt.Sprintf("%.2f %% of a core", share),
			floor: "-", ratio: fmt.Sprintf("%.2f", share), want: 1.0},
		{what: "its heap after a second day of 1,500 line-ups and 1,440 scrapes, against after the first",
			got: fmt.Sprintf("%.1f MB, resident %.0f MB", heaps[2]/1e6, resident/1e6), floor: fmt.Sprintf("%.1f MB", heaps[1]/1e6),
			ratio: fmt.Sprintf("%.2f", heaps[2]/heaps[1]), want: 1.1},
		{what: "which is a growth in a day of", got: fmt.Sprintf("%.1f MB", growth/1e6), floor: "-", ratio: "-", want: "stated"},
	}, nil
}

// openStore opens the database of the running server.
func (s *served) openStore(ctx context.Context) (*store.Store, error) {
	url, ok := cluster.Running(cluster.Reachable(filepath.Join(s.data, "pg")))
	if !ok {
		return nil, errors.New("the database of the server does not run")
	}
	return store.Open(ctx, url, filepath.Join(s.data, "key"), quiet)
}

// fill puts cameras into the database of the running server, whose site is not watched.
func (s *served) fill(ctx context.Context) error {
	db, err := s.openStore(ctx)
	if err != nil {
		return err
	}
	defer db.Close()
	site, err := db.Sites.Create(ctx, "Long line", address.MustParse("10.20.0.0/16"))
	if err != nil {
		return err
	}
	if err := db.Sites.SetWatch(ctx, site.ID, false); err != nil {
		return err
	}
	_, err = generate(ctx, db, site.ID, idleCameras)
	return err
}

// aDay uses the server as a day does.
func (s *served) aDay() error {
	_, raw, err := s.page.get("/api/sites")
	if err != nil {
		return err
	}
	var sites []struct{ ID string }
	if err := json.Unmarshal(raw, &sites); err != nil || len(sites) == 0 {
		return fmt.Errorf("there is no site: %w", err)
	}
	for range aDayOfPages {
		if _, _, err := s.page.get("/api/sites/" + sites[0].ID + "/devices"); err != nil {
			return err
		}
	}
	for range aDayOfScrape {
		if _, err := s.metric("go_goroutines"); err != nil {
			return err
		}
	}
	return nil
}

// restingHeap returns what is in use once the garbage was collected, in bytes.
func (s *served) restingHeap(ctx context.Context) (float64, error) {
	select {
	case <-ctx.Done():
		return 0, ctx.Err()
	case <-time.After(collected):
	}
	return s.metric("go_memstats_heap_inuse_bytes")
}
