package targets

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"unlatch/sim/puller"
)

// A Screen is a screen in a waiting room: it takes its list from one feed and shows one camera after the other.
type Screen struct {
	t      Target
	halt   context.CancelFunc
	ctx    context.Context
	server *http.Server
	wake   chan struct{}
	done   chan struct{}

	mu      sync.Mutex
	feed    string
	list    []string
	showing map[string]*puller.Pull // by URL
}

func startScreen(ctx context.Context, t Target) (*Screen, error) {
	s := &Screen{t: t, wake: make(chan struct{}, 1), done: make(chan struct{}), showing: map[string]*puller.Pull{}}
	s.ctx, s.halt = context.WithCancel(ctx)
	l, err := listen(t, t.Port)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /feed", func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(io.LimitReader(r.Body, 4096))
		s.SetFeed(strings.TrimSpace(string(raw)))
		w.WriteHeader(http.StatusNoContent)
	})
	s.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go s.server.Serve(l)
	go s.run()
	return s, nil
}

func (s *Screen) stop() {
	s.halt()
	s.server.Close()
	<-s.done
	for _, p := range s.showing {
		p.Stop()
	}
}

// SetFeed gives the screen the address of its list.
func (s *Screen) SetFeed(at string) {
	s.mu.Lock()
	s.feed = at
	s.mu.Unlock()
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Names returns the names on its list.
func (s *Screen) Names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.list...)
}

func (s *Screen) run() {
	defer close(s.done)
	for {
		s.mu.Lock()
		at := s.feed
		s.mu.Unlock()
		if at != "" {
			s.fetch(at)
		}
		select {
		case <-s.ctx.Done():
			return
		case <-s.wake:
		case <-time.After(2 * time.Second):
		}
	}
}

// fetch takes the list, pulls what is new on it, and says what it shows.
func (s *Screen) fetch(at string) {
	ask := func(method, to string, body []byte) ([]byte, error) {
		req, err := http.NewRequestWithContext(s.ctx, method, to, bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		req.Header.Set("User-Agent", s.t.Name)
		if body != nil {
			req.Header.Set("Content-Type", "application/json")
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, err
		}
		defer res.Body.Close()
		if res.StatusCode >= 300 {
			return nil, io.ErrUnexpectedEOF
		}
		return io.ReadAll(io.LimitReader(res.Body, 4<<20))
	}
	raw, err := ask("GET", at, nil)
	var list struct {
		Cameras []struct {
			ID, Name string
			Streams  []struct{ Role, URL string }
		}
	}
	if err != nil || json.Unmarshal(raw, &list) != nil {
		s.mu.Lock()
		s.list = nil
		s.mu.Unlock()
		return
	}
	var names, shown []string
	wanted := map[string]bool{}
	for _, c := range list.Cameras {
		names = append(names, c.Name)
		if len(c.Streams) == 0 {
			continue
		}
		u := c.Streams[len(c.Streams)-1].URL
		wanted[u] = true
		if s.showing[u] == nil {
			s.showing[u] = puller.Start(s.ctx, puller.Source{URL: u})
		}
		ctx, cancel := context.WithTimeout(s.ctx, settle)
		if s.showing[u].Await(ctx) {
			shown = append(shown, c.ID)
		}
		cancel()
	}
	for u, p := range s.showing {
		if !wanted[u] {
			p.Stop()
			delete(s.showing, u)
		}
	}
	s.mu.Lock()
	s.list = names
	s.mu.Unlock()
	body, _ := json.Marshal(map[string]any{"showing": shown})
	ask("POST", strings.TrimSuffix(strings.SplitN(at, "?", 2)[0], "/")+"/showing", body)
}
