package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/camlist"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/outside"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/target/byhand"
	feedkind "unlatch/core/wire/target/feed"
	"unlatch/store"
)

// sourceBody is a template to try.
type sourceBody struct {
	Text      string `json:"text" maxLength:"70000"`
	Each      bool   `json:"each,omitempty" doc:"once for each camera rather than once for all"`
	Passwords bool   `json:"passwords,omitempty" doc:"the text may hold passwords"`
}

// listingView is what a template makes, or what is wrong with it.
type listingView struct {
	Text    string `json:"text" doc:"passwords are dots here"`
	Cameras int    `json:"cameras"`
	Problem string `json:"problem,omitempty"`
	Line    int    `json:"line,omitempty"`
}

// feeds serve the lists that targets are made of, and the screens that fetch them.
type feeds struct {
	resource
	guesses *gate // guesses counts wrong tokens by where they come from
}

func (s feeds) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-template-examples", Method: "GET", Path: "/api/template-examples",
		Summary: "Templates to begin with"},
		func(context.Context, *struct{}) (*struct{ Body []camlist.Example }, error) {
			return &struct{ Body []camlist.Example }{camlist.Examples}, nil
		})
	register(s, api, huma.Operation{OperationID: "preview-list", Metadata: reads, Method: "POST",
		Path:    "/api/sites/{site}/targets/{target}/preview",
		Summary: "What a template makes of the cameras on a target"}, func(ctx context.Context, in *struct {
		TargetPath
		Body sourceBody
	}) (*struct{ Body listingView }, error) {
		return s.previewList(ctx, in.Site, in.Target, in.Body)
	})
	register(s, api, huma.Operation{OperationID: "open-feed", Method: "POST", Path: "/api/sites/{site}/targets/{target}/feed",
		Summary: "Make a new address for a feed; the one before opens nothing from then on"},
		func(ctx context.Context, in *TargetPath) (*struct{}, error) {
			return s.keep(ctx, act.OpenFeed{Site: in.Site, Target: in.Target})
		})
	register(s, api, huma.Operation{OperationID: "close-feed", Method: "DELETE", Path: "/api/sites/{site}/targets/{target}/feed",
		Summary: "Withdraw the address of a feed"},
		func(ctx context.Context, in *TargetPath) (*struct{}, error) {
			return s.keep(ctx, act.CloseFeed{Site: in.Site, Target: in.Target})
		})
}

// feedOf adds to a view what belongs to a feed.
func (s feeds) feedOf(ctx context.Context, v *targetView) error {
	token, err := s.store.Targets.FeedToken(ctx, v.ID)
	if err != nil {
		return err
	}
	if token != "" {
		v.Feed = "/feeds/" + token
	}
	v.Screens, err = s.store.Targets.Screens(ctx, v.ID)
	return err
}

// listed returns the cameras on a target as a list tells them. Secrets are decrypted only where the list may hold them.
func (s feeds) listed(ctx context.Context, t store.Target, secrets bool) ([]camlist.Camera, string, error) {
	site, err := s.store.Sites.Get(ctx, t.Site)
	if err != nil {
		return nil, "", err
	}
	ids, err := s.store.Targets.On(ctx, t.ID)
	if err != nil {
		return nil, "", err
	}
	devices, err := s.store.Devices.Of(ctx, ids)
	if err != nil {
		return nil, "", err
	}
	var seen *outside.Form // of a target that stands outside the site
	if t.Settings.V[act.Elsewhere] == "yes" {
		form, err := s.store.Sites.Outside(ctx, t.Site)
		if err != nil {
			return nil, "", err
		}
		seen = &form
	}
	by := map[uuid.UUID]*store.Device{}
	for i := range devices {
		by[devices[i].ID] = &devices[i]
	}
	var out []camlist.Camera
	for _, id := range ids {
		d := by[id]
		if d == nil || len(d.Status.Streams) == 0 {
			continue
		}
		st := &d.Status
		c := camlist.Camera{Number: len(out) + 1, ID: identityOf(d), Name: d.Title(), Address: d.Addr, Maker: st.Device.Maker,
			Model:  st.Device.Hardware,
			Serial: st.Device.Serial, MAC: st.Device.MAC, Channel: d.Channel}
		for _, x := range st.Streams {
			one := camlist.Stream{Role: x.Role, URL: x.URL}
			if seen != nil {
				led := false
				if one.URL, led = seen.URL(x.URL); !led {
					continue
				}
				c.Address = seen.Addresses[0]
			}
			if p, ok := st.Proofs[x.Role]; ok && p.Video != nil {
				one.Codec, one.Width, one.Height, one.FPS, one.Kbps = p.Video.Codec, p.Video.Width, p.Video.Height, p.Video.FPS, p.Video.BitrateKbps
			}
			c.Streams = append(c.Streams, one)
		}
		if len(c.Streams) == 0 {
			continue // nothing of it is led outside
		}
		c.Locate()
		if key, _, user := st.StreamSignIn(); key != uuid.Nil {
			c.User = user
			if secrets {
				in, err := s.store.SignIns.Decrypt(ctx, key)
				if err != nil {
					return nil, "", err
				}
				c.SignIn(in)
			}
		}
		out = append(out, c)
	}
	return out, site.Name, nil
}

func identityOf(d *store.Device) string {
	if d.Endpoint.Valid && d.Endpoint.String != "" {
		return d.Endpoint.String
	}
	return "urn:uuid:" + d.ID.String()
}

// previewDots stands for every password in a preview.
const previewDots = "•••"

func (s feeds) previewList(ctx context.Context, site, id uuid.UUID, in sourceBody) (*struct{ Body listingView }, error) {
	t, err := s.target(ctx, site, id)
	if err != nil {
		return nil, err
	}
	list, name, err := s.listed(ctx, t, false)
	if err != nil {
		return nil, s.explain(err)
	}
	for i := range list {
		list[i].Dots(previewDots)
	}
	out := &struct{ Body listingView }{Body: listingView{Cameras: len(list)}}
	text, err := camlist.Render(ctx, camlist.Source{Text: in.Text, Each: in.Each, Passwords: in.Passwords}, name, list)
	var bad *camlist.Error
	if errors.As(err, &bad) {
		out.Body.Problem, out.Body.Line = bad.Problem, bad.Line
		return out, nil
	}
	out.Body.Text = string(text)
	return out, s.explain(err)
}

// listFile is what a target's template makes, as a file. That passwords left is kept with who had them.
func (s feeds) listFile(w http.ResponseWriter, r *http.Request) {
	site, err := uuid.Parse(chi.URLParam(r, "site"))
	id, ierr := uuid.Parse(chi.URLParam(r, "target"))
	if err != nil || ierr != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	t, err := s.target(r.Context(), site, id)
	if err != nil || t.Kind != byhand.Kind {
		s.fail(w, store.ErrNotFound)
		return
	}
	set := t.Settings.V
	src := camlist.Source{Text: set["text"], Each: set["each"] == "yes", Passwords: set["passwords"] == "yes"}
	list, name, err := s.listed(r.Context(), t, src.Passwords)
	if err != nil {
		s.fail(w, err)
		return
	}
	text, err := camlist.Render(r.Context(), src, name, list)
	if err != nil {
		writeProblem(w, problem(422, "template", err.Error(), "Mend the template on the target's page."))
		return
	}
	if src.Passwords {
		if _, err := s.do(r.Context(), act.TakeFile{Site: site, Target: id}); err != nil {
			s.fail(w, err)
			return
		}
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": fileName(set["file"])}))
	w.Write(text)
}

func fileName(name string) string {
	name = strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '-'
		}
		return r
	}, wiretext.Line(name, 80))
	if name == "" {
		return "cameras.txt"
	}
	return name
}

// byFeed finds the feed that a request names. A token that is known, or was, is answered however often it comes and whoever else guesses
// from the same address: screens sit behind one router by the dozen. Guesses are spaced like those of passwords, by where they come from.
func (s feeds) byFeed(w http.ResponseWriter, r *http.Request) (store.Target, bool) {
	t, err := s.store.Targets.ByFeed(r.Context(), chi.URLParam(r, "token"))
	switch {
	case errors.Is(err, store.ErrWithdrawn):
		if err := s.store.Targets.AskedAtOldAddress(r.Context(), chi.URLParam(r, "token"), screenName(r), callerOf(r.Context())); err != nil {
			s.fail(w, err)
			return t, false
		}
		writeProblem(w, problem(http.StatusGone, "feed_withdrawn", "This address of the feed was withdrawn, or replaced by a new one.",
			"Take the present address from the target's page."))
		return t, false
	case errors.Is(err, store.ErrNotFound):
		if wait := s.guesses.begin("feed " + callerOf(r.Context())); wait > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(wait.Seconds())+1))
			writeProblem(w, problem(429, "too_many_tries", "Too many addresses of feeds were tried from here.",
				"Wait, and look at the address that the screen has."))
			return t, false
		}
		writeProblem(w, problem(404, "no_feed", "There is no feed at this address.", "Take the address from the target's page."))
		return t, false
	case err != nil:
		s.fail(w, err)
		return t, false
	}
	w.Header().Set("Cache-Control", "no-store")
	return t, true
}

// screenName returns what a screen calls itself: what its User-Agent begins with.
func screenName(r *http.Request) string {
	name := wiretext.Line(r.UserAgent(), 60)
	if name == "" {
		return "a screen"
	}
	return name
}

// feed is the list of a feed, to whoever knows its address: in JSON, or as format=m3u or format=xspf.
func (s feeds) feed(w http.ResponseWriter, r *http.Request) {
	t, ok := s.byFeed(w, r)
	if !ok {
		return
	}
	format := strings.ToLower(r.URL.Query().Get("format"))
	if format == "" {
		format = "json"
	}
	e, known := camlist.ByName(format)
	if !known || format != "json" && format != "m3u" && format != "xspf" {
		writeProblem(w, problem(422, "format", "A feed comes as json, m3u or xspf.", "Add ?format=m3u or ?format=xspf, or nothing for JSON."))
		return
	}
	list, name, err := s.listed(r.Context(), t, true)
	var text []byte
	if err == nil {
		text, err = camlist.Render(r.Context(), camlist.Source{Text: e.Text, Each: e.Each, Passwords: true}, name, list)
	}
	if err == nil {
		err = s.store.Targets.Fetched(r.Context(), t, chi.URLParam(r, "token"), screenName(r), callerOf(r.Context()), format)
	}
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", e.Type)
	w.Write(text)
}

// feedShowing takes a screen's word of what it shows.
func (s feeds) feedShowing(w http.ResponseWriter, r *http.Request) {
	t, ok := s.byFeed(w, r)
	if !ok {
		return
	}
	var in struct {
		Showing []string `json:"showing"`
	}
	raw, err := readBody(r.Body, 256<<10, http.NewResponseController(w).SetReadDeadline)
	if err != nil || json.Unmarshal(raw, &in) != nil || len(in.Showing) > 2000 {
		writeProblem(w, problem(422, "body", "The body cannot be read.", `Send {"showing": ["the id of a camera", …]}.`))
		return
	}
	for i := range in.Showing {
		in.Showing[i] = wiretext.Line(in.Showing[i], 300)
	}
	if err := s.store.Targets.Showing(r.Context(), t, screenName(r), callerOf(r.Context()), in.Showing); err != nil {
		s.fail(w, err)
		return
	}
	if err := s.confirmShown(r.Context(), t); err != nil {
		s.log.Warn("what a screen shows could not be kept", "err", err)
	}
	w.WriteHeader(http.StatusNoContent)
}

// confirmShown records what screens say that they show, once for each camera that is on the list and not confirmed yet.
func (s feeds) confirmShown(ctx context.Context, t store.Target) error {
	screens, err := s.store.Targets.Screens(ctx, t.ID)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(screens)
	if err != nil {
		return err
	}
	ids, err := s.store.Targets.On(ctx, t.ID)
	if err != nil {
		return err
	}
	devices, err := s.store.Devices.Of(ctx, ids)
	for i := range devices {
		d := &devices[i]
		if !d.Status.Unconfirmed(t.ID) {
			continue
		}
		if heard := feedkind.Heard(string(raw), identityOf(d)); heard.Arrived {
			body := evidence.Confirmed{Says: heard.Says}
			err = errors.Join(err, s.store.Devices.Record(ctx, d, nil, store.Finding{Subject: t.ID.String(), Body: body}))
		}
	}
	return err
}
