package server

import (
	"encoding/json"
	"errors"
	"net/http"

	"unlatch/core/address"
	"unlatch/core/diagnose"
	"unlatch/store"
)

// A Problem is an error by RFC 9457 with a cause that programs can tell apart and a fix that a person can act on.
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Cause  string `json:"cause" doc:"the kind of problem, for programs"`
	Fix    string `json:"fix,omitempty" doc:"what to do"`
	Count  uint64 `json:"count,omitempty" doc:"with too_many_addresses: how many there are"`
}

func (p *Problem) Error() string  { return p.Detail }
func (p *Problem) GetStatus() int { return p.Status }

// ContentType implements huma.ContentTypeFilter.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

func problem(status int, cause, detail, fix string) *Problem {
	return &Problem{Status: status, Title: http.StatusText(status), Detail: detail, Cause: cause, Fix: fix}
}

func writeProblem(w http.ResponseWriter, p *Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// explain turns errors of store and core into problems. What it does not know is logged and shown without its text: an
// unknown error's text may hold anything.
func (s *Server) explain(err error) error {
	var (
		p      *Problem
		ranges *address.RangeError
		many   *address.TooManyError
		plan   *address.PlanError
	)
	switch {
	case err == nil:
		return nil
	case listProblem(err) != nil:
		return listProblem(err)
	case errors.As(err, &p):
		return p
	case errors.Is(err, store.ErrNotFound):
		return problem(404, "not_found", "That is not there any more.", "Go back and look again.")
	case errors.As(err, &ranges):
		return problem(422, "bad_range", sentence(ranges.Error()), ranges.Remedy)
	case errors.As(err, &plan):
		return problem(422, "bad_"+plan.Field, sentence(plan.Problem), sentence(plan.Remedy))
	case errors.As(err, &many):
		q := problem(422, "too_many_addresses", sentence(many.Error()), "Confirm the number, or type a smaller range.")
		q.Count = many.Count
		return q
	case store.Away(err):
		return problem(503, "database_away", "The database does not answer.", "Work under way goes on when it is back. Start it again if it does not come back.")
	}
	s.cfg.Log.Error("unexpected", "err", err)
	return problem(500, "unexpected", "Something went wrong in Unlatch itself.", "Try again; the server's log has the details.")
}

func sentence(s string) string { return diagnose.Capital(s) + "." }
