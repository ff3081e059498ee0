package targets

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// broken returns a bridge that breaks the contract, each in one way.
func broken(b *Bridge, next http.Handler) http.Handler {
	var calls atomic.Int64
	slots := func(r *http.Request) bool { return r.Method == "GET" && r.URL.Path == "/v1/slots" }
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := calls.Add(1)
		switch {
		case b.t.Broken == "hangs" && slots(r):
			<-r.Context().Done()
		case b.t.Broken == "endless" && slots(r):
			w.Header().Set("Content-Type", "application/json")
			io.WriteString(w, `{"slots":[`)
			for r.Context().Err() == nil {
				if _, err := w.Write(bytes.Repeat([]byte(" "), 1<<16)); err != nil {
					return
				}
			}
		case b.t.Broken == "version" && r.URL.Path == "/v1/target":
			io.WriteString(w, `{"contract":"9","name":"From the future","kind":"recorder"}`)
		case b.t.Broken == "twice" && slots(r):
			io.WriteString(w, `{"slots":[{"id":"1","label":"one","state":"free"},{"id":"1","label":"one","state":"free"}]}`)
		case b.t.Broken == "flaps" && slots(r):
			fmt.Fprintf(w, `{"slots":[{"id":"%d","label":"one","state":"free"}]}`, n)
		case b.t.Broken == "half" && slots(r):
			w.Header().Set("Content-Length", "4000")
			io.WriteString(w, `{"slots":[{"id":"1","la`)
		case b.t.Broken == "deep" && slots(r):
			io.WriteString(w, strings.Repeat(`{"slots":[`, 20000))
		case b.t.Broken == "tells" && slots(r):
			io.WriteString(w, `{"slots":[{"id":"1","label":"one","state":"used","entry":{"key":"k","name":"n","streams":[],"password":"told"}}]}`)
		case b.t.Broken == "no_problem" && strings.HasPrefix(r.URL.Path, "/v1/slots/"):
			http.Error(w, "<html>Oops", http.StatusInternalServerError)
		case b.t.Broken == "lies" && r.Method == "PUT":
			io.WriteString(w, fmt.Sprintf(`{"id":%q,"label":"one","state":"free"}`, strings.TrimPrefix(r.URL.Path, "/v1/slots/")))
		case b.t.Broken == "forgets" && r.Method == "PUT":
			next.ServeHTTP(w, r)
			time.AfterFunc(time.Millisecond, func() {
				b.mu.Lock()
				defer b.mu.Unlock()
				for _, s := range b.slots {
					b.empty(s)
				}
			})
			time.Sleep(20 * time.Millisecond)
		default:
			next.ServeHTTP(w, r)
		}
	})
}
