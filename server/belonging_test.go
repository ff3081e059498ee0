package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/wire/target/viabridge"
	"unlatch/store"
	"unlatch/store/storetest"
)

// apiSchema is as much of a JSON schema as a body is made from.
type apiSchema struct {
	Ref        string               `json:"$ref"`
	Type       any                  `json:"type"`
	Format     string               `json:"format"`
	Pattern    string               `json:"pattern"`
	Enum       []any                `json:"enum"`
	Items      *apiSchema           `json:"items"`
	Properties map[string]apiSchema `json:"properties"`
	Required   []string             `json:"required"`
	Minimum    *float64             `json:"minimum"`
	MinLength  int                  `json:"minLength"`
}

// apiDocument is as much of an OpenAPI document as the property tests read.
type apiDocument struct {
	Paths map[string]map[string]struct {
		OperationID string `json:"operationId"`
		Parameters  []struct {
			Name string `json:"name"`
			In   string `json:"in"`
		} `json:"parameters"`
		RequestBody struct {
			Content map[string]struct {
				Schema apiSchema `json:"schema"`
			} `json:"content"`
		} `json:"requestBody"`
	} `json:"paths"`
	Components struct {
		Schemas map[string]apiSchema `json:"schemas"`
	} `json:"components"`
}

// things are what IDs in a request stand for, by the name of the field.
type things map[string]uuid.UUID

// named returns the thing that a field names: "devices" and "replaces" are devices too.
func (x things) named(field string) (uuid.UUID, bool) {
	switch field {
	case "devices", "replaces":
		field = "device"
	case "targets":
		field = "target"
	}
	id, ok := x[field]
	return id, ok
}

// sample returns a body by its schema: what is required, and every field that names a thing. named tells which things it names.
func (d apiDocument) sample(s apiSchema, field string, x things, named map[string]bool) any {
	if s.Ref != "" {
		return d.sample(d.Components.Schemas[s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]], field, x, named)
	}
	kind, _ := s.Type.(string)
	if list, ok := s.Type.([]any); ok {
		for _, k := range list {
			if k != "null" {
				kind, _ = k.(string)
			}
		}
	}
	switch kind {
	case "array":
		return []any{d.sample(*s.Items, field, x, named)}
	case "object":
		out := map[string]any{}
		for name, p := range s.Properties {
			if _, thing := x.named(name); thing || slices.Contains(s.Required, name) || d.holdsThings(p, x, 0) {
				out[name] = d.sample(p, name, x, named)
			}
		}
		return out
	case "boolean":
		return true
	case "integer", "number":
		if s.Minimum != nil {
			return max(1, *s.Minimum)
		}
		return 1
	}
	if len(s.Enum) > 0 {
		return s.Enum[len(s.Enum)-1]
	}
	if id, ok := x.named(field); ok {
		switch field {
		case "devices", "replaces":
			field = "device"
		case "targets":
			field = "target"
		}
		named[field] = true
		return id.String()
	}
	switch {
	case s.Format == "uuid":
		return uuid.New().String()
	case strings.Contains(s.Pattern, "64"):
		return strings.Repeat("a", 64)
	}
	return strings.Repeat("x", max(1, s.MinLength))
}

// holdsThings reports whether a field holds something that names a thing, a few levels down.
func (d apiDocument) holdsThings(s apiSchema, x things, depth int) bool {
	if depth > 4 {
		return false
	}
	if s.Ref != "" {
		return d.holdsThings(d.Components.Schemas[s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]], x, depth+1)
	}
	if s.Items != nil && d.holdsThings(*s.Items, x, depth+1) {
		return true
	}
	for name, p := range s.Properties {
		if _, thing := x.named(name); thing || d.holdsThings(p, x, depth+1) {
			return true
		}
	}
	return false
}

// written are counts of all that a request could have written.
func written(t *testing.T, s *store.Store) string {
	var out []string
	for _, table := range []string{"runs", "audit", "evidence", "wanted_placements", "agreements", "target_agreements", "consents", "targets",
		"devices", "sign_ins", "river_job", "plans"} {
		var n int
		require.NoError(t, s.Pool.QueryRow(context.Background(), "SELECT count(*) FROM "+table).Scan(&n))
		out = append(out, fmt.Sprintf("%s %d", table, n))
	}
	return strings.Join(out, ", ")
}

// Every operation that names a site and something of it is tried with what another site has: it is not there, and nothing is written.
// Whatever is added to the API is tried without anybody thinking of it.
func TestWhatIsAnotherSitesIsNotThere(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	own, other := newShed(t, p, s, 1), newShed(t, p, s, 1)
	targetOf := func(x *shed) uuid.UUID {
		return storetest.Target(t, s, x.site.ID, act.TargetForm{Kind: viabridge.Kind, Name: "Desk", Address: "http://192.0.2.5:80"})
	}
	mine := things{"device": own.ids[0], "target": targetOf(own), "plan": uuid.New()}
	theirs := things{"device": other.ids[0], "target": targetOf(other), "plan": uuid.New()}
	raw, err := OpenAPI()
	require.NoError(t, err)
	var doc apiDocument
	require.NoError(t, json.Unmarshal(raw, &doc))
	tried := 0
	for path, ops := range doc.Paths {
		if !strings.HasPrefix(path, "/api/sites/{site}/") {
			continue
		}
		for method, op := range ops {
			for foreign := range mine {
				x := things{"device": mine["device"], "target": mine["target"], "plan": mine["plan"]}
				x[foreign] = theirs[foreign]
				named := map[string]bool{}
				var body any
				if c, ok := op.RequestBody.Content["application/json"]; ok {
					body = doc.sample(c.Schema, "", x, named)
				}
				at := strings.ReplaceAll(path, "{site}", own.site.ID.String())
				for _, q := range op.Parameters {
					if q.In == "path" && q.Name != "site" {
						named[q.Name] = true
						at = strings.ReplaceAll(at, "{"+q.Name+"}", x[q.Name].String())
					}
				}
				if !named[foreign] {
					continue
				}
				tried++
				before := written(t, s)
				status, answer, _ := p.do(strings.ToUpper(method), at, body)
				name := fmt.Sprintf("%s with another site's %s", op.OperationID, foreign)
				assert.Equal(t, http.StatusNotFound, status, "%s: %s", name, answer)
				assert.Equal(t, before, written(t, s), name)
			}
		}
	}
	assert.Greater(t, tried, 30)
}
