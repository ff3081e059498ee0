package server

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/store"
)

// recordView is one piece of evidence in one line.
type recordView struct {
	ID       uuid.UUID `json:"id"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind"`
	Subject  string    `json:"subject,omitempty"`
	Summary  string    `json:"summary"`
	Failed   bool      `json:"failed"`
	Exchange bool      `json:"exchange" doc:"the conversation can be read"`
}

// records serve the evidence, its pictures and its exchanges.
type records struct{ resource }

func (s records) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-evidence", Method: "GET", Path: "/api/devices/{device}/evidence",
		Summary: "What was seen of a device, newest first"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body []recordView }, error) {
			records, err := s.store.Devices.History(ctx, in.Device, 100)
			if err != nil {
				return nil, s.explain(err)
			}
			out := &struct{ Body []recordView }{Body: []recordView{}}
			for _, r := range records {
				out.Body = append(out.Body, recordView{ID: r.ID, At: r.At, Kind: string(r.Kind), Subject: subject(r), Summary: r.Sum(),
					Failed: r.Failed(), Exchange: r.HasExchange})
			}
			return out, nil
		})
}

// subject leaves out subjects that are identities: they say nothing to a person.
func subject(r evidence.Record) string {
	if r.Kind == evidence.KindPlaced || r.Kind == evidence.KindConfirmed || r.Kind == evidence.KindProof {
		return ""
	}
	return r.Subject
}

// still sends a stored picture.
func (s records) still(w http.ResponseWriter, r *http.Request) {
	id, err := uuid.Parse(chi.URLParam(r, "still"))
	if err != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	jpeg, err := s.store.Devices.Still(r.Context(), id)
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable") // a still never changes
	w.Write(jpeg)
}

// exchange sends the conversation that a piece of evidence came from.
func (s records) exchange(w http.ResponseWriter, r *http.Request) {
	s.conversation(w, r, s.store.Devices.Exchange)
}

// targetExchange is the conversation behind one entry of a target's record.
func (s records) targetExchange(w http.ResponseWriter, r *http.Request) {
	s.conversation(w, r, s.store.Targets.Exchange)
}

func (s records) conversation(w http.ResponseWriter, r *http.Request, read func(context.Context, uuid.UUID) (string, error)) {
	id, err := uuid.Parse(chi.URLParam(r, "record"))
	if err != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	text, err := read(r.Context(), id)
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Write([]byte(text))
}
