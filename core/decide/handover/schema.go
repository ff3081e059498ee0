package handover

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Schema is the JSON schema of handover.json (JSON Schema 2020-12). docs/handover.schema.json is the same file.
//
//go:embed schema.json
var Schema []byte

var compiled = sync.OnceValue(func() *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		panic(err) // it is part of the program
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("handover.schema.json", doc); err != nil {
		panic(err)
	}
	return c.MustCompile("handover.schema.json")
})

// A SchemaError says where a pack is not as the schema wants it.
type SchemaError struct{ At, Problem string }

func (e *SchemaError) Error() string {
	return fmt.Sprintf("%s does not have the form of a pack: at %s, %s", DataFile, e.At, e.Problem)
}

// ReadPack reads handover.json. Its error is a *FormError for one of a newer program and a *SchemaError for one that is not as the schema
// wants it.
func ReadPack(raw []byte) (p Pack, err error) {
	if len(raw) > MostJSON {
		return p, fmt.Errorf("%s is larger than %d MB", DataFile, MostJSON>>20)
	}
	var head struct {
		Form int `json:"form"`
	}
	if err := json.Unmarshal(raw, &head); err != nil {
		return p, &SchemaError{"/", "it is no JSON: " + err.Error()}
	}
	if head.Form > Form {
		return p, &FormError{head.Form}
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return p, &SchemaError{"/", err.Error()}
	}
	if err := compiled().Validate(doc); err != nil {
		return p, schemaError(err)
	}
	if err := json.Unmarshal(raw, &p); err != nil {
		return p, &SchemaError{"/", err.Error()}
	}
	return p, nil
}

// schemaError picks the deepest of the validator's causes: that is what is wrong, and not what it is part of.
func schemaError(err error) error {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return err
	}
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	text := v.Error()
	if _, after, ok := strings.Cut(text, "': "); ok {
		text = after
	}
	return &SchemaError{"/" + strings.Join(v.InstanceLocation, "/"), text}
}
