package targets

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/bridge"
	"unlatch/sim/puller"
)

// routes returns the paths of the contract.
func (b *Bridge) routes() http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, do func(r *http.Request) (any, *bridge.Problem)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			time.Sleep(time.Duration(b.t.DelayMS) * time.Millisecond)
			b.mu.Lock()
			b.calls++
			out, p := do(r)
			b.mu.Unlock()
			reply(w, out, p)
		})
	}
	handle("GET /v1/target", func(*http.Request) (any, *bridge.Problem) { return b.about, nil })
	handle("GET /v1/slots", func(*http.Request) (any, *bridge.Problem) { return b.listNow(), nil })
	handle("GET /v1/slots/{id}", b.on(func(s *slot, _ *http.Request) (any, *bridge.Problem) { return b.view(s), nil }))
	handle("PUT /v1/slots/{id}", b.on(b.put))
	handle("DELETE /v1/slots/{id}", b.on(b.remove))
	if b.about.Can(bridge.CanFree) {
		handle("POST /v1/slots/{id}/free", b.on(b.free))
	}
	if b.about.Can(bridge.CanMove) {
		handle("POST /v1/slots/{id}/move", b.on(b.move))
	}
	if b.about.Can(bridge.CanOrder) {
		handle("PUT /v1/order", b.order)
	}
	if b.about.Can(bridge.CanSchedule) {
		handle("PUT /v1/slots/{id}/schedule", b.on(b.schedule))
	}
	if b.about.Can(bridge.CanTemplates) {
		handle("GET /v1/templates", func(*http.Request) (any, *bridge.Problem) {
			return map[string]any{"templates": append([]bridge.Template{}, b.templates...)}, nil
		})
		handle("PUT /v1/templates/{n}", b.setTemplate)
	}
	if b.about.Can(bridge.CanPush) {
		handle("PUT /v1/slots/{id}/push", b.on(b.pushTo))
		handle("DELETE /v1/slots/{id}/push", b.on(b.endPush))
	}
	mux.HandleFunc("POST /v1/slots/{id}/show", b.show)
	mux.HandleFunc("GET /v1/slots/{id}/picture", b.picture)
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, nil, &bridge.Problem{Type: "about:blank", Title: "There is no such path", Status: 404})
	})
	return b.signedIn(broken(b, mux))
}

func reply(w http.ResponseWriter, out any, p *bridge.Problem) {
	switch {
	case p != nil:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(p.Status)
		json.NewEncoder(w).Encode(p)
	case out == nil:
		w.WriteHeader(http.StatusNoContent)
	default:
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(out)
	}
}

// signedIn lets in who signs in by digest; a directory takes basic alone.
func (b *Bridge) signedIn(next http.Handler) http.Handler {
	line := fmt.Sprintf(`Digest realm="bridge", nonce="%s", qop="auth", algorithm=SHA-256`, b.nonce)
	if b.t.Kind == "directory" {
		line = `Basic realm="bridge"`
	}
	c := httpauth.ParseChallenges([]string{line})[0]
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if b.t.User != "" && b.t.Broken != "open" {
			_, ok := httpauth.Check(r.Header.Get("Authorization"), c, r.Method, func(user string) (string, bool) {
				return b.t.Secret.Reveal(), user == b.t.User
			})
			if !ok {
				w.Header().Set("WWW-Authenticate", line)
				reply(w, nil, &bridge.Problem{Type: "about:blank", Title: "Sign in first", Status: 401})
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// listNow is list, as somebody gets it who asks while the bridge may still be starting.
func (b *Bridge) listNow() bridge.Slots {
	out := b.list()
	if b.hides > 0 {
		b.hides--
		for i := range out.Slots {
			if s := &out.Slots[i]; s.State == bridge.Used {
				s.State, s.Entry, s.Status = bridge.Free, nil, nil
			}
		}
	}
	return out
}

func (b *Bridge) list() bridge.Slots {
	out := bridge.Slots{Slots: []bridge.Slot{}}
	for _, s := range b.slots {
		out.Slots = append(out.Slots, b.view(s))
		for _, p := range s.pulls {
			out.LoadKbps += p.Measured().BitrateKbps
		}
	}
	if b.about.Kind == "recorder" && out.LoadKbps > 0 {
		out.Days = 4e12 * 8 / 1000 / out.LoadKbps / 86400 // on four terabytes
	}
	return out
}

// on finds the slot that a request names.
func (b *Bridge) on(do func(s *slot, r *http.Request) (any, *bridge.Problem)) func(*http.Request) (any, *bridge.Problem) {
	return func(r *http.Request) (any, *bridge.Problem) {
		s := b.slot(r.PathValue("id"))
		if s == nil {
			return nil, &bridge.Problem{Type: bridge.TypeNoSlot, Title: "There is no such slot", Status: 404}
		}
		return do(s, r)
	}
}

func read(r *http.Request, v any) *bridge.Problem {
	raw, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err == nil {
		err = json.Unmarshal(raw, v)
	}
	if err != nil {
		return &bridge.Problem{Type: "about:blank", Title: "The body cannot be read", Status: 400}
	}
	return nil
}

func (b *Bridge) put(s *slot, r *http.Request) (any, *bridge.Problem) {
	var e bridge.Entry
	if p := read(r, &e); p != nil {
		return nil, p
	}
	if e.Key == "" || e.Name == "" || len(e.Streams) == 0 {
		return nil, misfit("entry", "incomplete", "a key, a name and a stream")
	}
	for _, st := range e.Streams {
		if _, err := streamurl.Parse(st.URL); err != nil && !strings.HasPrefix(st.URL, "http") {
			return nil, misfit("url", "unreadable", "a URL")
		}
	}
	switch {
	case s.State == bridge.Locked:
		return nil, &bridge.Problem{Type: bridge.TypeLocked, Title: "The entry is locked: " + s.Why, Status: 409}
	case s.State == bridge.Blocked:
		return nil, &bridge.Problem{Type: bridge.TypeTaken, Title: "The slot is blocked: " + s.Why, Status: 409}
	case s.State == bridge.Used && s.Entry.Key != e.Key && (e.Replaces == "" || s.Entry.Key != e.Replaces):
		return nil, &bridge.Problem{Type: bridge.TypeTaken, Title: "The slot is in use", Status: 409}
	}
	for _, o := range b.slots {
		if o != s && o.Entry != nil && o.Entry.Key == e.Key {
			return nil, &bridge.Problem{Type: bridge.TypeTaken, Title: "The camera stands in " + o.Label + " already", Status: 409}
		}
	}
	if b.kind.refuses != nil {
		if p := b.kind.refuses(b, &e); p != nil {
			return nil, p
		}
	}
	if limit := b.about.LimitKbps; limit > 0 && s.State == bridge.Free && b.list().LoadKbps > limit {
		return nil, misfit("bitrate_kbps", "too much in all", fmt.Sprintf("at most %.0f kbit/s in all", limit))
	}
	b.fill(s, e)
	b.save()
	if b.forgets > 0 {
		b.forgets--
		time.AfterFunc(b.forgetsAfter, func() { b.Forget(e.Key) })
	}
	return b.view(s), nil
}

func (b *Bridge) remove(s *slot, _ *http.Request) (any, *bridge.Problem) {
	if s.State == bridge.Locked {
		return nil, &bridge.Problem{Type: bridge.TypeLocked, Title: "The entry is locked: " + s.Why, Status: 409}
	}
	b.empty(s)
	b.save()
	return nil, nil
}

func (b *Bridge) free(s *slot, _ *http.Request) (any, *bridge.Problem) {
	if s.State != bridge.Blocked {
		return nil, &bridge.Problem{Type: bridge.TypeRefused, Title: "The slot is not blocked", Status: 409}
	}
	s.State, s.Why, s.CanFree = bridge.Free, "", false
	b.save()
	return b.view(s), nil
}

func (b *Bridge) move(s *slot, r *http.Request) (any, *bridge.Problem) {
	var in struct{ To string }
	if p := read(r, &in); p != nil {
		return nil, p
	}
	to := b.slot(in.To)
	switch {
	case to == nil:
		return nil, &bridge.Problem{Type: bridge.TypeNoSlot, Title: "There is no such slot", Status: 404}
	case s.State != bridge.Used:
		return nil, &bridge.Problem{Type: bridge.TypeRefused, Title: "The slot is empty", Status: 409}
	case to.State == bridge.Locked || to.State == bridge.Blocked:
		return nil, &bridge.Problem{Type: bridge.TypeLocked, Title: "The other slot cannot be used: " + to.Why, Status: 409}
	}
	s.Entry, to.Entry, s.State, to.State = to.Entry, s.Entry, to.State, s.State
	s.password, to.password, s.pulls, to.pulls, s.since, to.since, s.push, to.push =
		to.password, s.password, to.pulls, s.pulls, to.since, s.since, to.push, s.push
	b.save()
	return nil, nil
}

func (b *Bridge) order(r *http.Request) (any, *bridge.Problem) {
	var in struct{ Slots []string }
	if p := read(r, &in); p != nil {
		return nil, p
	}
	for _, id := range in.Slots {
		if b.slot(id) == nil {
			return nil, &bridge.Problem{Type: bridge.TypeNoSlot, Title: "There is no such slot", Status: 404}
		}
	}
	b.arrange(in.Slots)
	b.save()
	return nil, nil
}

var modes = regexp.MustCompile("^(always|motion|week|off)$")

func (b *Bridge) schedule(s *slot, r *http.Request) (any, *bridge.Problem) {
	var in bridge.Schedule
	if p := read(r, &in); p != nil {
		return nil, p
	}
	if !modes.MatchString(in.Mode) {
		return nil, misfit("mode", in.Mode, "always, motion, week or off")
	}
	s.Schedule = &in
	b.save()
	return nil, nil
}

func (b *Bridge) setTemplate(r *http.Request) (any, *bridge.Problem) {
	var in bridge.Template
	if p := read(r, &in); p != nil {
		return nil, p
	}
	n, err := strconv.Atoi(r.PathValue("n"))
	if err != nil || n < 1 || n > b.about.Templates.Most || !strings.HasPrefix(in.Path, "/") {
		return nil, misfit("template", r.PathValue("n"), fmt.Sprintf("a number up to %d and a path", b.about.Templates.Most))
	}
	in.Number = n
	if old := b.template(n); old != nil {
		*old = in
	} else {
		b.templates = append(b.templates, in)
	}
	b.save()
	return in, nil
}

// still returns the picture of a slot: of its first stream that has come.
func (b *Bridge) still(ctx context.Context, s *slot) ([]byte, error) {
	b.mu.Lock()
	var pulls []*puller.Pull
	for _, role := range []string{"main", "sub", "third", "picture"} {
		if p := s.pulls[role]; p != nil {
			pulls = append(pulls, p)
		}
	}
	b.mu.Unlock()
	for _, p := range pulls {
		if raw, err := p.Still(ctx); err == nil {
			return raw, nil
		}
	}
	return nil, errors.New("no picture has come yet")
}

func (b *Bridge) picture(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	s := b.slot(r.PathValue("id"))
	b.mu.Unlock()
	if s == nil || !b.about.Can(bridge.CanPicture) {
		reply(w, nil, &bridge.Problem{Type: bridge.TypeNoSlot, Title: "There is no such picture", Status: 404})
		return
	}
	raw, err := b.still(r.Context(), s)
	if err != nil {
		reply(w, nil, &bridge.Problem{Type: bridge.TypeBusy, Title: "No picture has come yet", Status: 503})
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	w.Write(raw)
}

func (b *Bridge) show(w http.ResponseWriter, r *http.Request) {
	var in struct{ Screen string }
	b.mu.Lock()
	s := b.slot(r.PathValue("id"))
	b.mu.Unlock()
	p := read(r, &in)
	found := false
	for _, x := range b.about.Screens {
		found = found || x == in.Screen
	}
	if p == nil && (s == nil || s.State != bridge.Used || !found) {
		p = &bridge.Problem{Type: bridge.TypeNoSlot, Title: "There is no such screen or camera", Status: 404}
	}
	if p != nil {
		reply(w, nil, p)
		return
	}
	began := time.Now()
	ctx, cancel := context.WithTimeout(r.Context(), settle)
	defer cancel()
	_, err := b.still(ctx, s)
	out := bridge.Shown{Shown: err == nil, AfterMS: time.Since(began).Milliseconds(), Says: "on the " + in.Screen}
	if err != nil {
		out.Says = err.Error()
	}
	reply(w, out, nil)
}
