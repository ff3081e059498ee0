package handover_test

import (
	"encoding/json"
	"flag"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
)

var update = flag.Bool("update", false, "write the schema anew")

// schemaOf describes a type as JSON Schema.
func schemaOf(t reflect.Type) map[string]any {
	switch t {
	case reflect.TypeFor[uuid.UUID]():
		return map[string]any{"type": "string", "pattern": "^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$"}
	case reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time", "maxLength": 40}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem())
	case reflect.String:
		return map[string]any{"type": "string", "maxLength": 100_000}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Slice:
		return map[string]any{"type": "array", "maxItems": 50_000, "items": schemaOf(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "maxProperties": 10_000, "additionalProperties": schemaOf(t.Elem())}
	case reflect.Struct:
		out := map[string]any{"type": "object", "additionalProperties": false}
		properties, required := map[string]any{}, []string{}
		fields(t, properties, &required)
		slices.Sort(required)
		out["properties"], out["required"] = properties, required
		return out
	}
	return map[string]any{"type": "integer"}
}

func fields(t reflect.Type, properties map[string]any, required *[]string) {
	for i := range t.NumField() {
		f := t.Field(i)
		tag := f.Tag.Get("json")
		if f.Anonymous && tag == "" {
			fields(f.Type, properties, required)
			continue
		}
		if !f.IsExported() || tag == "-" {
			continue
		}
		name, options, _ := strings.Cut(tag, ",")
		if name == "" {
			name = f.Name
		}
		s := schemaOf(f.Type)
		if options == "" {
			*required = append(*required, name)
			if f.Type.Kind() == reflect.Slice || f.Type.Kind() == reflect.Map || f.Type.Kind() == reflect.Pointer {
				s["type"] = []any{s["type"], "null"}
			}
		}
		properties[name] = s
	}
}

// The published schema is that of the types, and packs have its form.
func TestTheSchemaIsThatOfPacks(t *testing.T) {
	s := schemaOf(reflect.TypeFor[handover.Pack]())
	s["$schema"], s["title"] = "https://json-schema.org/draft/2020-12/schema", "Handover pack, form 1"
	s["$id"] = "handover.schema.json"
	s["properties"].(map[string]any)["form"] = map[string]any{"const": handover.Form}
	want, err := json.MarshalIndent(s, "", " ")
	require.NoError(t, err)
	want = append(want, '\n')
	const published = "../../../docs/handover.schema.json"
	if *update {
		require.NoError(t, os.WriteFile("schema.json", want, 0o644))
		require.NoError(t, os.WriteFile(published, want, 0o644))
		t.Skip("written anew")
	}
	assert.JSONEq(t, string(want), string(handover.Schema), "write it anew: go test ./core/decide/handover -run TheSchema -update")
	docs, err := os.ReadFile(published)
	require.NoError(t, err)
	assert.Equal(t, string(handover.Schema), string(docs))

	pack := packtest.Sample(3)
	raw, err := pack.Write()
	require.NoError(t, err)
	back, err := handover.ReadPack(raw)
	require.NoError(t, err)
	again, err := back.Write()
	require.NoError(t, err)
	assert.Equal(t, string(raw), string(again), "what is read is what was written")
}

func TestAPackThatIsNotAsTheSchemaWantsItIsTurnedAway(t *testing.T) {
	pack := packtest.Sample(1)
	raw, err := pack.Write()
	require.NoError(t, err)
	var newer *handover.FormError
	_, err = handover.ReadPack([]byte(strings.Replace(string(raw), `"form": 1`, `"form": 2`, 1)))
	require.ErrorAs(t, err, &newer)
	assert.Equal(t, "this pack has form 2, and this Unlatch reads forms up to 1", newer.Error())

	for _, c := range []struct{ from, to, want string }{
		{`"address": "192.0.2.10"`, `"address": 7`, "/cameras/0/address"},
		{`"address": "192.0.2.10"`, `"address": "192.0.2.10", "password": "secret"`, "/cameras/0"},
		{`"targets": [`, `"targets": {"a": [`, "/"},
		{`"kind": "camera"`, `"kin": "camera"`, "/cameras/0"},
	} {
		text := strings.Replace(string(raw), c.from, c.to, 1)
		require.NotEqual(t, string(raw), text, c.from)
		_, err := handover.ReadPack([]byte(text))
		var bad *handover.SchemaError
		require.ErrorAs(t, err, &bad, c.from)
		assert.Contains(t, bad.Error(), c.want)
		assert.NotContains(t, bad.Error(), "secret")
	}
}

func FuzzReadPack(f *testing.F) {
	pack := packtest.Sample(1)
	raw, _ := pack.Write()
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		p, err := handover.ReadPack(raw)
		if err == nil {
			_, err = p.Write()
			assert.NoError(t, err)
		}
	})
}
