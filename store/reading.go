package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// A reading gathers questions whose answers are short, and asks them all in one statement: one after the other, the ways there and back
// take longer than the answers. Rows come as JSON, so their fields carry json tags that are the names of the columns.
type reading struct {
	parts []string
	into  []any
}

// ask adds a question; into is a pointer to a slice of rows.
func (r *reading) ask(into any, query string) {
	r.parts = append(r.parts, "(SELECT COALESCE(json_agg(x), '[]') FROM ("+query+") x)")
	r.into = append(r.into, into)
}

// answer asks the questions, which share their arguments, and fills what they are read into.
func (r *reading) answer(ctx context.Context, q querier, args ...any) error {
	var raw []byte
	if err := q.GetContext(ctx, &raw, "SELECT "+r.sql(), args...); err != nil {
		return err
	}
	return r.read(raw)
}

// sql is the expression that answers the questions, as one JSON document.
func (r *reading) sql() string { return "json_build_array(" + strings.Join(r.parts, ",\n") + ")" }

// read fills what the questions are read into from the answers.
func (r *reading) read(raw []byte) error {
	var answers []json.RawMessage
	if err := json.Unmarshal(raw, &answers); err != nil || len(answers) != len(r.into) {
		return fmt.Errorf("%d questions have %d answers: %w", len(r.into), len(answers), err)
	}
	for i, into := range r.into {
		if err := json.Unmarshal(answers[i], into); err != nil {
			return err
		}
	}
	return nil
}
