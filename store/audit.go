package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"unlatch/core/decide/act"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"golang.org/x/text/cases"
	"golang.org/x/text/language"
)

// A Record is who did what, line by line. It is append-only, and each line carries the hash of the one before.
type Record struct{ *database }

// A Line is one act in the record.
type Line struct {
	ID       uuid.UUID  `db:"id" json:"id"`
	Number   int64      `db:"number" json:"number" doc:"of the line, counted from 1 without gaps"`
	At       time.Time  `db:"at" json:"at"`
	PersonID *uuid.UUID `db:"person_id" json:"person_id,omitempty"`
	Person   string     `db:"person" json:"person" doc:"who; the name as it was then"`
	Token    string     `db:"token" json:"token,omitempty" doc:"the name of the API token by which the person acted"`
	Act      act.Name   `db:"act" json:"act,omitempty" doc:"the name of the act; missing in lines of older versions"`
	Action   string     `db:"action" json:"action" doc:"what was done, in words"`
	Subject  string     `db:"subject" json:"subject" doc:"to what"`
	Before   string     `db:"before" json:"before,omitempty"`
	After    string     `db:"after" json:"after,omitempty"`
	Site     string     `db:"site" json:"site,omitempty"`
	SiteID   *uuid.UUID `db:"site_id" json:"site_id,omitempty"`
	Device   string     `db:"device" json:"device,omitempty"`
	DeviceID *uuid.UUID `db:"device_id" json:"device_id,omitempty"`
	Target   string     `db:"target" json:"target,omitempty"`
	TargetID *uuid.UUID `db:"target_id" json:"target_id,omitempty"`
	// Devices are all that were acted on, also where there are many.
	Devices uuidList `db:"devices" json:"devices"`
}

const lineColumns = `id, number, at, person_id, person, token, act, action, subject, before, after, site, site_id, device, device_id,
	target, target_id, to_json(devices) AS devices`

// A LineFilter says which lines of the record are wanted. What is zero does not count.
type LineFilter struct {
	// Given are the sites of which lines may be told. Nil means all of them, and what belongs to no site.
	Given    []uuid.UUID
	Site     uuid.UUID
	Device   uuid.UUID
	Person   string // the name as it stands in the lines
	Act      act.Name
	Text     string    // that stands in anything the line names, in capitals or not
	From, To time.Time // To itself is not in it
	Before   int64     // the number of the line to go on after; 0 begins with the newest
	Limit    int
}

// query returns the condition of a filter with its arguments.
func (f LineFilter) query() (where string, args []any) {
	parts := []string{"true"}
	add := func(part string, arg any) {
		args = append(args, arg)
		parts = append(parts, fmt.Sprintf(part, len(args)))
	}
	if f.Given != nil {
		add("site_id = ANY($%d)", f.Given)
	}
	if f.Site != uuid.Nil {
		add("site_id = $%d", f.Site)
	}
	if f.Device != uuid.Nil {
		add("devices @> $%d", []uuid.UUID{f.Device})
	}
	if f.Person != "" {
		add("person = $%d", f.Person)
	}
	if f.Act != "" {
		add("act = $%d", f.Act)
	}
	for word := range strings.FieldsSeq(noNUL(f.Text)) {
		add("words LIKE $%d", pattern(word))
	}
	if !f.From.IsZero() {
		add("at >= $%d", f.From)
	}
	if !f.To.IsZero() {
		add("at < $%d", f.To)
	}
	if f.Before > 0 {
		add("number < $%d", f.Before)
	}
	return strings.Join(parts, " AND "), args
}

// pattern is what LIKE finds a word by, anywhere in words, which the database keeps in small letters. It is made here: the database would
// make it anew for each line.
func pattern(word string) string {
	return "%" + likeLiteral.Replace(cases.Lower(language.Und, cases.HandleFinalSigma(true)).String(word)) + "%"
}

// likeLiteral takes from a text what LIKE would read as a pattern.
var likeLiteral = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// fewLines is how many lines a rare word, or a device, has at most, and how many of the newest are looked through for a frequent one.
const fewLines = 20_000

// List returns lines of the record, newest first.
func (s Record) List(ctx context.Context, f LineFilter) ([]Line, error) {
	where, args := f.query()
	switch {
	case f.Device != uuid.Nil:
		return s.among(ctx, "devices @> $1", []any{[]uuid.UUID{f.Device}}, where, args, f.Limit)
	case strings.TrimSpace(f.Text) != "":
		return s.worded(ctx, f, where, args)
	}
	return s.lines(ctx, where, args, f.Limit)
}

// worded is List for words. The newest lines are looked through first: a frequent word is found there often enough. A rare one has few
// lines in the index of words, and those are looked up then. The database, which cannot know which it is, would choose one way for both.
func (s Record) worded(ctx context.Context, f LineFilter, where string, args []any) ([]Line, error) {
	before := f.Before
	if before == 0 {
		if err := s.on(ctx).GetContext(ctx, &before, "SELECT number + 1 FROM record_head"); err != nil {
			return nil, err
		}
	}
	args = append(args, before-fewLines)
	edge := len(args)
	out, err := s.lines(ctx, fmt.Sprintf("%s AND number >= $%d", where, edge), args, f.Limit)
	if err != nil || len(out) == f.Limit {
		return out, err
	}
	var words []string
	var hit []any
	for word := range strings.FieldsSeq(noNUL(f.Text)) {
		hit = append(hit, pattern(word))
		words = append(words, fmt.Sprint("words LIKE $", len(hit)))
	}
	older, err := s.among(ctx, strings.Join(words, " AND "), hit, fmt.Sprintf("%s AND number < $%d", where, edge), args, f.Limit-len(out))
	return append(out, older...), err
}

// among returns the newest lines that meet a condition, of which an index finds a part: the lines that part meets. Where those are many,
// the condition is looked at line by line, since it is met soon then.
func (s Record) among(ctx context.Context, part string, with []any, where string, args []any, limit int) ([]Line, error) {
	var numbers []int64
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "SET LOCAL enable_seqscan = off; SET LOCAL enable_indexscan = off; "+
			"SET LOCAL enable_indexonlyscan = off"); err != nil { // which leaves the index of what is looked for
			return err
		}
		return tx.SelectContext(ctx, &numbers, fmt.Sprintf("SELECT number FROM audit WHERE %s LIMIT %d", part, fewLines+1), with...)
	})
	if err != nil {
		return nil, err
	}
	if len(numbers) <= fewLines {
		args = append(args, numbers)
		where = fmt.Sprintf("%s AND number = ANY($%d)", where, len(args))
	}
	return s.lines(ctx, where, args, limit)
}

// lines returns the newest lines that meet a condition.
func (s Record) lines(ctx context.Context, where string, args []any, limit int) ([]Line, error) {
	args = append(args, limit)
	out := []Line{}
	err := s.on(ctx).SelectContext(ctx, &out, fmt.Sprintf("SELECT %s FROM audit WHERE %s ORDER BY number DESC LIMIT $%d", lineColumns, where,
		len(args)), args...)
	for i := range out {
		out[i].word()
	}
	return out, err
}

// word puts what was done into words, where the line has the name of the act alone.
func (l *Line) word() {
	if l.Act != "" {
		l.Action = l.Act.Words()
	}
}

// Each hands on all lines that a filter wants, newest first, until do returns an error. Limit and Before do not count.
func (s Record) Each(ctx context.Context, f LineFilter, do func(Line) error) error {
	f.Limit, f.Before = 1000, 0
	for {
		lines, err := s.List(ctx, f)
		if err != nil {
			return err
		}
		for _, l := range lines {
			if err := do(l); err != nil {
				return err
			}
		}
		if len(lines) < f.Limit {
			return nil
		}
		f.Before = lines[len(lines)-1].Number
	}
}

// People returns the names of everybody who stands in lines of these sites, in order; nil for all lines.
func (s Record) People(ctx context.Context, given []uuid.UUID) ([]string, error) {
	out := []string{}
	// The names are few and the lines are many: the index is asked for the next name after each.
	return out, s.on(ctx).SelectContext(ctx, &out, `WITH RECURSIVE names(person) AS (
			(SELECT person FROM audit ORDER BY person LIMIT 1)
			UNION ALL SELECT (SELECT a.person FROM audit a WHERE a.person > n.person ORDER BY a.person LIMIT 1)
			FROM names n WHERE n.person IS NOT NULL)
		SELECT person FROM names n WHERE person <> ''
			AND ($1::uuid[] IS NULL OR EXISTS (SELECT 1 FROM audit a WHERE a.person = n.person AND a.site_id = ANY($1)))`, given)
}

// Newest returns the newest line of each site.
func (s Record) Newest(ctx context.Context) (map[uuid.UUID]Line, error) {
	var lines []Line
	err := s.on(ctx).SelectContext(ctx, &lines, "SELECT l.* FROM sites s CROSS JOIN LATERAL (SELECT "+lineColumns+
		" FROM audit WHERE site_id = s.id ORDER BY number DESC LIMIT 1) l")
	out := map[uuid.UUID]Line{}
	for _, l := range lines {
		l.word()
		out[*l.SiteID] = l
	}
	return out, err
}
