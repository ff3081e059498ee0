package store

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
)

// A jsonb is a value that is kept as JSON.
type jsonb[T any] struct{ V T }

// JSON wraps a value that is kept as JSON.
func JSON[T any](v T) jsonb[T] { return jsonb[T]{v} }

// Scan implements sql.Scanner.
func (j *jsonb[T]) Scan(v any) error {
	switch v := v.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(v, &j.V)
	case string:
		return json.Unmarshal([]byte(v), &j.V)
	}
	return fmt.Errorf("JSON cannot be read from %T", v)
}

// Value implements driver.Valuer.
func (j jsonb[T]) Value() (driver.Value, error) {
	raw, err := json.Marshal(j.V)
	return string(raw), err
}
