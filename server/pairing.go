package server

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/tries"
	"unlatch/core/ground/wiretext"
	"unlatch/store"
)

// pairings serve the pairing of workers: machines that ask for it, and people who confirm it.
type pairings struct {
	resource
	asked *tries.Counter // requests of machines, by address
	links *links
	from  func(*http.Request) string
}

// maxAsk bounds what a machine says of itself, in bytes.
const maxAsk = 4 << 10

// pairedView is a paired worker as pages show it.
type pairedView struct {
	store.PairedWorker
	Key       string `json:"key" doc:"a short name of its key, as the machine shows it"`
	Connected bool   `json:"connected" doc:"it is connected to this server now"`
	// Update is what it was told last to become.
	Update *store.WorkerUpdate `json:"update,omitempty" doc:"what it was told to become; missing where it never was"`
}

func (s pairings) routes(api huma.API) {
	const path = "/api/paired-workers"
	register(s, api, huma.Operation{OperationID: "list-paired-workers", Method: http.MethodGet, Path: path, Metadata: needs(act.Administer),
		Summary: "The workers at sites that are known by keys of their own"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []pairedView }, error) {
			list, err := s.store.Paired.List(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			updates, err := s.store.Programs.Updates(ctx)
			out := make([]pairedView, len(list))
			for i, w := range list {
				out[i] = pairedView{PairedWorker: w, Key: pairing.Public(w.Key).Name(), Connected: s.links.connected(w.ID)}
				if u, told := updates[w.ID]; told {
					out[i].Update = &u
				}
			}
			return &struct{ Body []pairedView }{out}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "pair-worker", Method: http.MethodPost, Path: path, DefaultStatus: 201,
		Summary: "Make the machine that shows a code a worker of some sites"},
		func(ctx context.Context, in *struct {
			Body struct {
				Code  string      `json:"code" maxLength:"40" doc:"that the machine shows"`
				Name  string      `json:"name" minLength:"1" maxLength:"100" doc:"where it stands"`
				Sites []uuid.UUID `json:"sites" maxItems:"5000" doc:"whose networks it reaches"`
				// Shared is chosen by whoever pairs it.
				Shared bool `json:"shared,omitempty" doc:"it may open the sign-ins that are for every site, besides those of its sites"`
			}
		}) (*struct{ Body idBody }, error) {
			a := act.PairWorker{ID: uuid.Must(uuid.NewV7()), Name: in.Body.Name, Shared: in.Body.Shared}
			if err := s.ask(ctx, &a, in.Body.Code, in.Body.Sites); err != nil {
				return nil, err
			}
			if _, err := s.do(ctx, a); err != nil {
				return nil, err
			}
			return &struct{ Body idBody }{idBody{a.ID}}, nil
		})
	register(s, api, huma.Operation{OperationID: "revoke-worker", Method: http.MethodDelete, Path: path + "/{worker}",
		Summary: "Let a paired worker in no more, and end its connection at once"},
		func(ctx context.Context, in *struct {
			Worker uuid.UUID `path:"worker"`
		}) (*struct{}, error) {
			w, err := s.store.Paired.Get(ctx, in.Worker)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.RevokeWorker{ID: w.ID, Name: w.Name})
		})
	s.keyRoutes(api, path)
	s.programRoutes(api, path)
}

// programRoutes serve the programs that paired workers can be told to take.
func (s pairings) programRoutes(api huma.API, path string) {
	register(s, api, huma.Operation{OperationID: "list-worker-programs", Method: http.MethodGet, Path: "/api/worker-programs",
		Metadata: needs(act.Administer), Summary: "The programs that paired workers can be told to take"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []store.OfferedProgram }, error) {
			list, err := s.store.Programs.List(ctx)
			return &struct{ Body []store.OfferedProgram }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "update-worker", Method: http.MethodPut, Path: path + "/{worker}/update", DefaultStatus: 204,
		Summary: "Tell a paired worker to take the program of another version, which it does where it trusts who has signed that"},
		func(ctx context.Context, in *struct {
			Worker uuid.UUID `path:"worker"`
			Body   struct {
				Version string `json:"version" maxLength:"40"`
			}
		}) (*struct{}, error) {
			w, err := s.store.Paired.Get(ctx, in.Worker)
			if err != nil {
				return nil, s.explain(err)
			}
			if w.Revoked != nil {
				return nil, s.explain(store.ErrNotFound)
			}
			offered, err := s.store.Programs.List(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			a := act.UpdateWorker{ID: w.ID, Name: w.Name, Version: w.Version, To: in.Body.Version}
			for _, p := range offered {
				a.Offered = append(a.Offered, p.Version)
			}
			return s.keep(ctx, a)
		})
}

// keyRoutes serve what paired workers may open.
func (s pairings) keyRoutes(api huma.API, path string) {
	register(s, api, huma.Operation{OperationID: "give-sites", Method: http.MethodPut, Path: path + "/{worker}/sites", DefaultStatus: 204,
		Summary: "Change which sites a paired worker has, and whether it opens the sign-ins that are for every site"},
		func(ctx context.Context, in *struct {
			Worker uuid.UUID `path:"worker"`
			Body   struct {
				Sites  []uuid.UUID `json:"sites" maxItems:"5000"`
				Shared bool        `json:"shared,omitempty"`
			}
		}) (*struct{}, error) {
			w, err := s.store.Paired.Get(ctx, in.Worker)
			if err != nil {
				return nil, s.explain(err)
			}
			a := act.GiveSites{ID: w.ID, Name: w.Name, Shared: in.Body.Shared}
			if a.Sites, a.Names, err = s.named(ctx, in.Body.Sites); err != nil {
				return nil, err
			}
			return s.keep(ctx, a)
		})
	register(s, api, huma.Operation{OperationID: "list-laid-open", Method: http.MethodGet, Path: path + "/{worker}/laid-open",
		Metadata: needs(act.Administer), Summary: "The sign-ins that a worker could read until it was revoked, or until its site was " +
			"taken from it"},
		func(ctx context.Context, in *struct {
			Worker uuid.UUID `path:"worker"`
		}) (*struct{ Body []store.LaidOpen }, error) {
			if _, err := s.store.Paired.Get(ctx, in.Worker); err != nil {
				return nil, s.explain(err)
			}
			out, err := s.store.Paired.LaidOpen(ctx, in.Worker)
			return &struct{ Body []store.LaidOpen }{out}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "rotate-site-key", Method: http.MethodPost, Path: "/api/data-keys", DefaultStatus: 204,
		Summary: "Give a site, or what is for every site, another data key, and encrypt its sign-ins with that"},
		func(ctx context.Context, in *struct {
			Body struct {
				Site *uuid.UUID `json:"site,omitempty" doc:"missing for the sign-ins that are for every site"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.RotateSiteKey{Site: in.Body.Site})
		})
}

// named returns sites with what they are called.
func (s pairings) named(ctx context.Context, sites []uuid.UUID) (ids []uuid.UUID, names []string, err error) {
	for _, id := range sites {
		of, err := s.store.Sites.Get(ctx, id)
		if err != nil {
			return nil, nil, s.explain(err)
		}
		ids, names = append(ids, id), append(names, of.Name)
	}
	return ids, names, nil
}

// ask fills in what the machine that shows a code has said, and what the sites are called.
func (s pairings) ask(ctx context.Context, a *act.PairWorker, code string, sites []uuid.UUID) error {
	text, ok := pairing.ReadCode(code)
	unknown := problem(http.StatusNotFound, "unknown_code", "No machine shows this code.",
		"Look at what it shows. A code is good for ten minutes: begin anew on the machine with unlatch worker pair.")
	if !ok {
		return unknown
	}
	p, err := s.store.Paired.ByCode(ctx, text)
	if errors.Is(err, store.ErrNotFound) {
		return unknown
	} else if err != nil {
		return s.explain(err)
	}
	a.Request, a.Key, a.Recipient, a.Machine, a.Version = p.Request, p.Key, p.Recipient, p.Machine, p.Version
	a.Sites, a.Names, err = s.named(ctx, sites)
	return err
}

// ServeHTTP answers machines: a POST asks to be paired, a GET says how that stands.
func (s pairings) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	from := s.from(r)
	if s.asked.Shut(from) {
		w.Header().Set("Retry-After", "60")
		writeProblem(w, problem(http.StatusTooManyRequests, "too_fast", "Too many requests to be paired come from this address.",
			"Wait a minute, then try again."))
		return
	}
	out, err := s.answer(r, from)
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(out)
}

func (s pairings) answer(r *http.Request, from string) (out pairing.Asked, err error) {
	ctx, done := context.WithTimeout(r.Context(), 10*time.Second)
	defer done()
	if r.Method == http.MethodGet {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		p, err := s.store.Paired.Asked(ctx, token)
		if errors.Is(err, store.ErrNotFound) {
			s.asked.Wrong(from)
		}
		if err == nil && p.Worker != nil {
			out.Worker = p.Worker.String()
			w, err := s.store.Paired.Get(ctx, *p.Worker)
			out.Name = w.Name
			return out, err
		}
		return out, err
	}
	s.asked.Wrong(from) // each counts: who is not paired has no business in asking often
	var in pairing.Ask
	if err := json.NewDecoder(io.LimitReader(r.Body, maxAsk)).Decode(&in); err != nil || !in.Key.Valid() ||
		!pairing.IsRecipient(in.Recipient) {
		return out, problem(http.StatusBadRequest, "bad_key", "This is no request to be paired.",
			"Use unlatch worker pair, of the version of this server.")
	}
	out.Token, out.Code, out.Seconds = newToken(), pairing.NewCode(), int(store.PairingLife.Seconds())
	err = s.store.Paired.Ask(ctx, out.Token, out.Code, store.Pairing{Key: in.Key, Recipient: in.Recipient,
		Machine: wiretext.Line(in.Machine, 100),
		Version: wiretext.Line(in.Version, 50), From: from})
	if errors.Is(err, store.ErrManyWait) {
		return pairing.Asked{}, problem(http.StatusServiceUnavailable, "many_wait", "As many machines wait to be paired as may.",
			"Confirm or wait for the others; each waits ten minutes.")
	}
	return out, err
}
