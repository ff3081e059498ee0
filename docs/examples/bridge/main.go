// An example of a bridge: a wall of four pictures that takes plain stream URLs. It keeps its entries in memory and says of each that it is
// connecting; where the comments say so, a real one talks to its product. It is complete: unlatch bridge check passes on it.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net/http"
	"strings"
	"sync"
)

// wall is the four places.
type wall struct {
	mu    sync.Mutex
	slots []*slot
}

type slot struct {
	ID     string  `json:"id"`
	Label  string  `json:"label"`
	State  string  `json:"state"`
	Entry  *entry  `json:"entry,omitempty"`
	Status *status `json:"status,omitempty"`
}

type entry struct {
	Key      string           `json:"key"`
	Name     string           `json:"name"`
	Streams  []map[string]any `json:"streams"`
	User     string           `json:"user,omitempty"`
	Password string           `json:"password,omitempty"`
	Replaces string           `json:"replaces,omitempty"`
}

type status struct {
	State string `json:"state"`
	Says  string `json:"says,omitempty"`
}

func main() {
	at := flag.String("listen", "127.0.0.1:8081", "address")
	password := flag.String("password", "", "password of the user bridge; empty lets anyone in")
	flag.Parse()
	log.Fatal(http.ListenAndServe(*at, New(*password)))
}

// New is the bridge as an HTTP handler.
func New(password string) http.Handler {
	w := &wall{}
	for n := range 4 {
		w.slots = append(w.slots, &slot{ID: fmt.Sprint(n + 1), Label: fmt.Sprintf("place %d", n+1), State: "free"})
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/target", func(rw http.ResponseWriter, _ *http.Request) {
		answer(rw, 200, map[string]any{"contract": "1", "name": "Example wall", "kind": "panel",
			"intake": map[string]any{"streams": []string{"sub"}, "codecs": []string{"H.264"}, "max_fps": 15}})
	})
	mux.HandleFunc("GET /v1/slots", func(rw http.ResponseWriter, _ *http.Request) {
		w.mu.Lock()
		defer w.mu.Unlock()
		answer(rw, 200, map[string]any{"slots": w.slots})
	})
	mux.HandleFunc("GET /v1/slots/{id}", w.on(func(rw http.ResponseWriter, _ *http.Request, s *slot) { answer(rw, 200, s) }))
	mux.HandleFunc("PUT /v1/slots/{id}", w.on(w.put))
	mux.HandleFunc("DELETE /v1/slots/{id}", w.on(func(rw http.ResponseWriter, _ *http.Request, s *slot) {
		s.State, s.Entry, s.Status = "free", nil, nil // tell the product to forget it
		rw.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("/", func(rw http.ResponseWriter, _ *http.Request) {
		problem(rw, 404, "about:blank", "There is no such path", "")
	})
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if _, given, _ := r.BasicAuth(); password != "" && given != password {
			rw.Header().Set("WWW-Authenticate", `Basic realm="bridge"`) // put TLS in front, or speak digest
			problem(rw, 401, "about:blank", "Sign in first", "")
			return
		}
		mux.ServeHTTP(rw, r)
	})
}

// on finds the slot that a request names.
func (w *wall) on(do func(http.ResponseWriter, *http.Request, *slot)) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, s := range w.slots {
			if s.ID == r.PathValue("id") {
				do(rw, r, s)
				return
			}
		}
		problem(rw, 404, "unlatch:bridge:no-slot", "There is no such slot", "")
	}
}

func (w *wall) put(rw http.ResponseWriter, r *http.Request, s *slot) {
	var e entry
	if err := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 1<<20)).Decode(&e); err != nil {
		problem(rw, 400, "about:blank", "The entry cannot be read", "")
		return
	}
	if e.Key == "" || e.Name == "" || len(e.Streams) == 0 || !strings.Contains(fmt.Sprint(e.Streams[0]["url"]), "://") {
		problem(rw, 422, "unlatch:bridge:misfit", "The entry is not complete", "streams")
		return
	}
	for _, o := range w.slots { // one camera stands in one place, and pushes nobody out
		if o != s && o.Entry != nil && o.Entry.Key == e.Key || o == s && s.Entry != nil && s.Entry.Key != e.Key && s.Entry.Key != e.Replaces {
			problem(rw, 409, "unlatch:bridge:taken", "It is taken by "+o.Entry.Name, "")
			return
		}
	}
	e.Password, e.Replaces = "", "" // hand them to the product here; they are never told back
	s.State, s.Entry, s.Status = "used", &e, &status{State: "connecting", Says: "asked the product a moment ago"}
	answer(rw, 200, s)
}

func answer(rw http.ResponseWriter, code int, body any) {
	rw.Header().Set("Content-Type", "application/json")
	rw.WriteHeader(code)
	json.NewEncoder(rw).Encode(body)
}

func problem(rw http.ResponseWriter, code int, kind, title, field string) {
	rw.Header().Set("Content-Type", "application/problem+json")
	rw.WriteHeader(code)
	json.NewEncoder(rw).Encode(map[string]any{"type": kind, "title": title, "status": code, "field": field})
}
