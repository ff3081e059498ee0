package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"unlatch/core/decide/act"
	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/wiretext"
	"unlatch/jobs"
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
	// Changed is with changed_meanwhile.
	Changed *changedView `json:"changed,omitempty" doc:"what somebody else has changed meanwhile"`
}

// changedView is what somebody else has changed while a person was changing it.
type changedView struct {
	By  string            `json:"by"`
	At  time.Time         `json:"at"`
	Now map[string]string `json:"now" doc:"what it is now, by field"`
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

// problems turn errors into what they mean to the person who asked.
type problems struct{ log *slog.Logger }

// fail answers a request that huma does not serve with what an error means to the person.
func (s problems) fail(w http.ResponseWriter, err error) {
	var p *Problem
	if errors.As(s.explain(err), &p) {
		writeProblem(w, p)
	}
}

// huma's own problems repeat what was sent, and that may be a password: only what was expected where is told.
func init() {
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		var wants []string
		for _, e := range errs {
			var d *huma.ErrorDetail
			if !errors.As(e, &d) || len(wants) == 5 {
				continue
			}
			if strings.HasPrefix(d.Location, "path.") {
				return problem(http.StatusNotFound, "not_found", "That is not there any more.", "Go back and look again.")
			}
			if where := strings.TrimPrefix(d.Location, "body."); where != "" && where != "body" {
				wants = append(wants, fmt.Sprintf("%s: %s", wiretext.Line(where, 60), expectation(d.Message)))
			}
		}
		cause, detail := "bad_request", "What was sent cannot be taken."
		switch {
		case status == http.StatusUnprocessableEntity:
			cause = "not_valid"
		case status == http.StatusRequestEntityTooLarge:
			cause, detail = "too_large", "What was sent is too large."
		}
		if len(wants) > 0 {
			detail += " " + diagnose.Capital(strings.Join(wants, "; ")) + "."
		}
		return problem(status, cause, detail, "Check what was typed and send it again.")
	}
}

// expectation returns what huma says that a field must be, without what it was.
func expectation(message string) string {
	for _, kept := range []string{"expected ", "unexpected property"} {
		if strings.HasPrefix(message, kept) {
			return wiretext.Line(message, 120)
		}
	}
	return "cannot be read"
}

// explain turns errors of store and core into problems. What it does not know is logged and shown without its text: an
// unknown error's text may hold anything.
func (s problems) explain(err error) error {
	var (
		p      *Problem
		ranges *address.RangeError
		many   *address.TooManyError
		plan   *address.PlanError
		no     *act.Refusal
		gone   *act.MissingError
		other  *act.ChangedError
		roles  *store.RolesError
	)
	switch {
	case err == nil:
		return nil
	case listProblem(err) != nil:
		return listProblem(err)
	case errors.As(err, &p):
		return p
	case errors.As(err, &no):
		q := problem(422, no.Cause, no.Detail, no.Fix)
		q.Count = no.Count
		return q
	case errors.As(err, &other):
		q := problem(http.StatusConflict, "changed_meanwhile", sentence(other.Error()), "Look at both, and keep one of them.")
		q.Changed = &changedView{other.By, other.At, other.Now}
		return q
	case errors.Is(err, act.ErrForbidden):
		return problem(403, "forbidden", "Your account may not do that.", "Ask an owner of this Unlatch for the right to.")
	case errors.As(err, &roles):
		return problem(http.StatusConflict, "no_roles", "Each paired worker has a database role of its own, and this server may make none.",
			"Allow it, as the database's administrator: ALTER ROLE "+roles.Role+" CREATEROLE")
	case errors.As(err, &gone) && len(gone.IDs) > 1:
		return problem(404, "not_found", sentence(gone.Error()), "Go back and look again.")
	case errors.As(err, &gone), errors.Is(err, store.ErrNotFound):
		return problem(404, "not_found", "That is not there any more.", "Go back and look again.")
	case errors.As(err, &ranges):
		return problem(422, "bad_range", sentence(ranges.Error()), ranges.Fix)
	case errors.As(err, &plan):
		return problem(422, "bad_"+plan.Field, sentence(plan.Problem), sentence(plan.Fix))
	case errors.As(err, &many):
		q := problem(422, "too_many_addresses", sentence(many.Error()), "Confirm the number, or type a smaller range.")
		q.Count = many.Count
		return q
	case errors.Is(err, context.Canceled):
		return problem(499, "gone", "Whoever asked has gone.", "Ask again.")
	case errors.Is(err, jobs.ErrNobody):
		return problem(503, "no_worker", "No worker that reaches this site answers.",
			"Start one on a machine in its network: unlatch worker --site NAME. If one runs, look at its log.")
	case store.Full(err):
		return problem(503, "database_full", "The disk of the database is full.", "Free some space: work under way goes on by itself then.")
	case store.Away(err), errors.Is(err, context.DeadlineExceeded):
		return problem(503, "database_away", "The database does not answer.",
			"Work under way goes on when it is back. Start it again if it does not come back.")
	}
	s.log.Error("unexpected", "err", err)
	return problem(500, "unexpected", "Something went wrong in Unlatch itself.", "Try again; the server's log has the details.")
}

func sentence(s string) string { return diagnose.Capital(s) + "." }
