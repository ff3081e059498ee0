package server

import (
	"context"
	"encoding/csv"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/table"
	"unlatch/store"
)

// auditLog serves the record of who did what.
type auditLog struct {
	resource
	verifying chan struct{} // holds one token: the whole record is read by one at a time
}

func newAuditLog(r resource) auditLog { return auditLog{r, make(chan struct{}, 1)} }

// linesShown is how many lines of the record are answered at once.
const linesShown = 200

// RecordQuery is what the record is filtered by. It is exported because huma reads exported fields only.
type RecordQuery struct {
	Site   string `query:"site" doc:"lines of one site only"`
	Device string `query:"device" doc:"lines that a device stands in, also among others"`
	Person string `query:"person" maxLength:"100" doc:"lines of one person, by the name that stands in them"`
	Act    string `query:"act" maxLength:"60" doc:"lines of one act, by its name"`
	Text   string `query:"text" maxLength:"200" doc:"words, all of which stand somewhere in the line"`
	From   string `query:"from" doc:"a time of RFC 3339: lines from then on"`
	To     string `query:"to" doc:"a time of RFC 3339: lines before it"`
}

// filter reads the query. Its error is a *Problem.
func (q RecordQuery) filter() (f store.LineFilter, err error) {
	f = store.LineFilter{Person: q.Person, Act: act.Name(q.Act), Text: q.Text}
	for _, x := range []struct {
		text, name string
		into       *uuid.UUID
	}{{q.Site, "site", &f.Site}, {q.Device, "device", &f.Device}} {
		if x.text == "" {
			continue
		}
		if *x.into, err = uuid.Parse(x.text); err != nil {
			return f, problem(422, "bad_id", "There is no "+x.name+" "+strconv.Quote(x.text)+".", "Give the ID of one.")
		}
	}
	for _, x := range []struct {
		text string
		into *time.Time
	}{{q.From, &f.From}, {q.To, &f.To}} {
		if x.text == "" {
			continue
		}
		if *x.into, err = time.Parse(time.RFC3339, x.text); err != nil {
			return f, problem(422, "bad_time", strconv.Quote(x.text)+" is no time.", "Write it like 2026-11-29T14:30:00Z.")
		}
	}
	return f, nil
}

// wanted returns the filter of a query for who asks. Its error is a *Problem.
func (s auditLog) wanted(ctx context.Context, q RecordQuery) (store.LineFilter, error) {
	f, err := q.filter()
	if err == nil && f.Site != uuid.Nil {
		err = s.requireGiven(ctx, store.ThingSite, f.Site)
	}
	f.Given = sitesOf(ctx)
	return f, err
}

type actView struct {
	Name  act.Name `json:"name"`
	Words string   `json:"words"`
}

// chainView is what a check of the whole record found.
type chainView struct {
	Holds bool   `json:"holds" doc:"no line was changed, taken out or slipped in"`
	Lines int64  `json:"lines" doc:"that were read"`
	Hash  string `json:"hash,omitempty" doc:"of the newest line: noted down elsewhere, it shows later that nothing before it was changed"`
	Line  int64  `json:"line,omitempty" doc:"the first that does not hold"`
	Why   string `json:"why,omitempty" doc:"what is wrong with it"`
}

type choicesView struct {
	People []string  `json:"people" doc:"everybody who stands in the record"`
	Acts   []actView `json:"acts" doc:"all acts there are, by their words"`
}

func (s auditLog) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-acts", Method: "GET", Path: "/api/audit",
		Summary: "What was done by whom, newest first"},
		func(ctx context.Context, in *struct {
			RecordQuery
			Before int64 `query:"before" doc:"the number of the line to go on after"`
		}) (*struct{ Body []store.Line }, error) {
			f, err := s.wanted(ctx, in.RecordQuery)
			if err != nil {
				return nil, err
			}
			f.Before, f.Limit = in.Before, linesShown
			lines, err := s.store.Record.List(ctx, f)
			return &struct{ Body []store.Line }{lines}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "verify-record", Metadata: needs(act.Administer), Method: "GET", Path: "/api/audit/verify",
		Summary: "Whether no line of the record was changed, taken out or slipped in"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body chainView }, error) { return s.verify(ctx) })
	register(s, api, huma.Operation{OperationID: "list-record-choices", Method: "GET", Path: "/api/audit/choices",
		Summary: "The people and acts by which the record can be filtered"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body choicesView }, error) {
			out := choicesView{}
			for _, n := range act.Names() {
				out.Acts = append(out.Acts, actView{n, n.Words()})
			}
			var err error
			out.People, err = s.store.Record.People(ctx, sitesOf(ctx))
			return &struct{ Body choicesView }{out}, s.explain(err)
		})
}

// verify reads the whole record and says whether it holds.
func (s auditLog) verify(ctx context.Context) (*struct{ Body chainView }, error) {
	select {
	case s.verifying <- struct{}{}:
		defer func() { <-s.verifying }()
	default:
		return nil, problem(http.StatusTooManyRequests, "verified_now", "The record is being verified already.", "Wait until that is done.")
	}
	c, err := s.store.Verify(ctx, "")
	if errors.Is(err, context.DeadlineExceeded) {
		return nil, problem(http.StatusGatewayTimeout, "record_too_long", "The record is too long to be verified on a page.",
			"Verify it on the machine: unlatch record verify.")
	}
	if err != nil {
		return nil, s.explain(err)
	}
	out := chainView{Holds: c.Broken == nil, Lines: c.Lines, Hash: c.Hash}
	if c.Broken != nil {
		out.Hash, out.Line, out.Why = "", c.Broken.Number, c.Broken.Why
	}
	return &struct{ Body chainView }{out}, nil
}

// file sends the lines that a query wants as comma-separated values (RFC 4180).
func (s auditLog) file(w http.ResponseWriter, r *http.Request) {
	f, err := s.wanted(r.Context(), queryOf(r.URL.Query()))
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	w.Header().Set("Content-Disposition", `attachment; filename="record.csv"`)
	out := csv.NewWriter(w)
	out.Write([]string{"number", "time", "person", "token", "act", "words", "subject", "before", "after", "site", "device", "target"})
	err = s.store.Record.Each(r.Context(), f, func(l store.Line) error {
		row := []string{strconv.FormatInt(l.Number, 10), l.At.UTC().Format(time.RFC3339Nano), l.Person, l.Token, string(l.Act), l.Action,
			l.Subject, l.Before, l.After, l.Site, l.Device, l.Target}
		for i := range row {
			row[i] = table.Inert(row[i])
		}
		return out.Write(row)
	})
	if out.Flush(); err != nil {
		s.log.Warn("the record was not sent to its end", "err", err)
		panic(http.ErrAbortHandler) // so that half of it is not taken for all
	}
}

func queryOf(v url.Values) RecordQuery {
	return RecordQuery{Site: v.Get("site"), Device: v.Get("device"), Person: v.Get("person"), Act: v.Get("act"), Text: v.Get("text"),
		From: v.Get("from"), To: v.Get("to")}
}
