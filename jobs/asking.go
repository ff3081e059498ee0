package jobs

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"

	"unlatch/core/ground/pairing"
	"unlatch/core/ground/wiretext"
)

// An AskError is a server's no to a machine that asks to be paired.
type AskError struct {
	Status      int
	Detail, Fix string
}

func (e *AskError) Error() string {
	if e.Detail == "" {
		return fmt.Sprintf("the server answers with status %d: it is no Unlatch, or one that knows no pairing", e.Status)
	}
	return e.Detail + " " + e.Fix
}

const maxAsked = 16 << 10 // bytes of an answer

// askServer says something to the server about pairing, and reads its answer.
func askServer(ctx context.Context, to ServerAddress, method, token string, say any) (out pairing.Asked, err error) {
	var body io.Reader
	if say != nil {
		raw, err := json.Marshal(say)
		if err != nil {
			return out, err
		}
		body = bytes.NewReader(raw)
	}
	q, err := http.NewRequestWithContext(ctx, method, to.URL.JoinPath(pairing.AskPath).String(), body)
	if err != nil {
		return out, err
	}
	q.Header.Set("Content-Type", "application/json")
	if token != "" {
		q.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := to.client().Do(q)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxAsked))
	if err != nil {
		return out, err
	}
	if res.StatusCode != http.StatusOK {
		no := &AskError{Status: res.StatusCode}
		var told struct{ Detail, Fix string }
		if json.Unmarshal(raw, &told) == nil {
			no.Detail, no.Fix = wiretext.Line(told.Detail, 300), wiretext.Line(told.Fix, 300)
		}
		return out, no
	}
	if err := json.Unmarshal(raw, &out); err != nil {
		return out, errors.New("the server's answer cannot be read")
	}
	return out, nil
}
