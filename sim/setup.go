package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"maps"
	"net/http"
	"net/netip"
	"sync"

	"unlatch/sim/transport"
)

// setup is what a device is set to on its maker's own page, and nowhere else. It is kept over restarts.
type setup struct {
	mu     sync.Mutex
	values map[string]string
	said   map[string]string // what the page shows, where that is another thing
	second context.CancelFunc
	both   bool // both multicast ways have run at once
}

// What can be set, by the maker's own word for it, with what it is at first.
var setups = map[string]map[string]string{
	"corvane":    {"signing": "digest", "first": "1", "second": "0", "veil": "0"},
	"lumenhythe": {"veil": "false"},
	"brackwell":  {"Service": "On"},
	"ostrel":     {"plate": "320x180"},
	"doorstead":  {"chime": "bright"},
	"holloway":   {"beep": "yes"},
}

func newSetup(d Device) *setup {
	s := &setup{values: maps.Clone(setups[d.Maker])}
	if _, sized := s.values["plate"]; sized && len(d.Streams) > 0 {
		s.values["plate"] = fmt.Sprintf("%dx%d", d.Streams[0].Width, d.Streams[0].Height)
	}
	maps.Copy(s.values, d.Setup)
	s.said = maps.Clone(s.values)
	return s
}

// of returns what something is set to.
func (s *setup) of(name string) string {
	if s == nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.values[name]
}

// page returns what the page shows.
func (s *setup) page() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.said)
}

// put sets what is known, as the device's defects have it.
func (d *device) put(name, value string) {
	s := d.setup
	s.mu.Lock()
	if _, known := s.values[name]; known && d.Defects.Page != "nothing" {
		s.said[name] = value
		if d.Defects.Page != "lies" {
			s.values[name] = value
		}
	}
	s.mu.Unlock()
	d.followSetup()
}

// followSetup has the device do what it is set to.
func (d *device) followSetup() {
	if d.Maker != "corvane" || !d.casts() {
		return
	}
	s := d.setup
	s.mu.Lock()
	defer s.mu.Unlock()
	first, second := s.values["first"] == "1", s.values["second"] == "1"
	s.both = s.both || first && second
	d.castOne(0, first)
	switch {
	case second && s.second == nil:
		ctx, end := context.WithCancel(d.casting.ctx)
		s.second = end
		f := d.sending()[0]
		to := netip.AddrPortFrom(f.Cast.Group.Next(), uint16(f.Cast.Port))
		d.casting.group.Go(func() error {
			transport.Send(ctx, transport.Options{Clip: f.clip, From: d.Address, To: to})
			return nil
		})
	case !second && s.second != nil:
		s.second()
		s.second = nil
	}
}

// streamSchemes are the sign-in methods that the streams take.
func (d *device) streamSchemes() []string {
	switch d.setup.of("signing") {
	case "basic":
		return []string{"basic"}
	case "both":
		return append([]string{"basic"}, d.maker.streamAuth...)
	}
	return d.maker.streamAuth
}

// encrypts reports whether the maker's own encryption is on.
func (d *device) encrypts() bool {
	veil := d.setup.of("veil")
	return d.Defects.Encrypts || veil == "true" || veil == "1"
}

// page adds one page of the maker's own to a device's web side, signed in as that is.
type page func(pattern string, serve http.HandlerFunc)

// serveSetup serves the maker's own pages. No two makers have the same.
func (d *device) serveSetup(mux *http.ServeMux) {
	page := func(pattern string, serve http.HandlerFunc) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			if d.webSignedIn(w, r) {
				r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
				serve(w, r)
			}
		})
	}
	switch d.Maker {
	case "corvane":
		d.corvaneSetup(page)
	case "lumenhythe":
		d.lumenhytheSetup(page)
	case "brackwell":
		d.brackwellSetup(page)
	case "ostrel":
		d.ostrelSetup(page)
	case "holloway":
		d.hollowaySetup(page)
	case "doorstead":
		d.doorsteadSetup(page)
	}
}

// corvaneSetup takes a form, and shows JSON.
func (d *device) corvaneSetup(page page) {
	page("POST /vista/setup", func(w http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		for name := range r.PostForm {
			d.put(name, r.PostForm.Get(name))
		}
		io.WriteString(w, "OK\n")
	})
	page("GET /vista/setup.json", func(w http.ResponseWriter, _ *http.Request) {
		json.NewEncoder(w).Encode(map[string]any{"streams": d.setup.page()})
	})
}

// lumenhytheSetup wants a token that another page gave, each once.
func (d *device) lumenhytheSetup(page page) {
	var mu sync.Mutex
	token := ""
	page("GET /lantern/setup", func(w http.ResponseWriter, _ *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		token = randomHex()
		fmt.Fprintf(w, `<!doctype html><form><input type="hidden" name="glow" value="%s"></form>`, token)
	})
	page("POST /lantern/setup", func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			Glow string `json:"glow"`
			Veil bool   `json:"veil"`
		}
		mu.Lock()
		defer mu.Unlock()
		if json.NewDecoder(r.Body).Decode(&body) != nil || body.Glow == "" || body.Glow != token {
			http.Error(w, "the glow has gone out", http.StatusForbidden)
			return
		}
		token = ""
		d.put("veil", fmt.Sprint(body.Veil))
		w.WriteHeader(http.StatusNoContent)
	})
	page("GET /lantern/state", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `<state><veil>%s</veil></state>`, d.setup.page()["veil"])
	})
}

// brackwellSetup wants the case right: on and ON are answered, and are nothing.
func (d *device) brackwellSetup(page page) {
	page("PUT /Weir/Gate", func(w http.ResponseWriter, r *http.Request) {
		var body struct {
			Service string `xml:"Service"`
		}
		raw, _ := io.ReadAll(r.Body)
		if xml.Unmarshal(raw, &body) == nil && (body.Service == "On" || body.Service == "Off") {
			d.put("Service", body.Service)
		}
		io.WriteString(w, "<Done/>")
	})
	page("GET /Weir/Gate", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "<Gate><Service>%s</Service></Gate>", d.setup.page()["Service"])
	})
}

// ostrelSetup restarts after each change.
func (d *device) ostrelSetup(page page) {
	page("GET /orrery/desk", func(w http.ResponseWriter, r *http.Request) {
		if plate := r.URL.Query().Get("plate"); plate != "" {
			d.put("plate", plate)
			d.world.restart(d)
		}
		fmt.Fprintf(w, "plate=%s\r\n", d.setup.page()["plate"])
	})
}

// hollowaySetup shows what it is set to on another page than the one that sets it.
func (d *device) hollowaySetup(page page) {
	page("POST /strongroom/desk", func(w http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		d.put("beep", r.PostForm.Get("beep"))
		http.Redirect(w, r, "/strongroom/desk/state", http.StatusSeeOther)
	})
	page("GET /strongroom/desk/state", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "<li>beeps: %s</li>\n", d.setup.page()["beep"])
	})
}

// doorsteadSetup sets by a query, and shows plain text.
func (d *device) doorsteadSetup(page page) {
	page("GET /porch/set", func(w http.ResponseWriter, r *http.Request) {
		if chime := r.URL.Query().Get("chime"); chime != "" {
			d.put("chime", chime)
		}
		fmt.Fprintf(w, "chime: %s.\n", d.setup.page()["chime"])
	})
}

// plate returns a picture in the size that the device's pictures are set to.
func (d *device) plate(b []byte) []byte {
	var width, height int
	if _, err := fmt.Sscanf(d.setup.of("plate"), "%dx%d", &width, &height); err != nil || width < 16 || height < 16 || width*height > 1<<22 {
		return b
	}
	from, err := jpeg.Decode(bytes.NewReader(b))
	if err != nil || from.Bounds().Dx() == width && from.Bounds().Dy() == height {
		return b
	}
	to := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			to.Set(x, y, from.At(x*from.Bounds().Dx()/width, y*from.Bounds().Dy()/height))
		}
	}
	var out bytes.Buffer
	jpeg.Encode(&out, to, nil)
	return out.Bytes()
}

// Setup returns what the device is set to on its own page, and BothWays whether both of its multicast ways have run at once.
func (l Look) Setup() map[string]string {
	l.d.setup.mu.Lock()
	defer l.d.setup.mu.Unlock()
	return maps.Clone(l.d.setup.values)
}
func (l Look) BothWays() bool {
	l.d.setup.mu.Lock()
	defer l.d.setup.mu.Unlock()
	return l.d.setup.both
}
