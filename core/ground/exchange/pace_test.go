package exchange

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An answer that comes on is read to its end however long that takes; one that drips, or stops, ends after the patience that it was given.
func TestAnExchangeEndsByTimeAndProgress(t *testing.T) {
	const patience = 300 * time.Millisecond
	big := strings.Repeat("x", 1<<20)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out := http.NewResponseController(w)
		switch r.URL.Path {
		case "/steady": // twice as long as the patience, with a lot each time
			for range 6 {
				io.WriteString(w, big)
				out.Flush()
				time.Sleep(patience / 3)
			}
		case "/drips":
			for r.Context().Err() == nil {
				io.WriteString(w, "x")
				out.Flush()
				time.Sleep(patience / 10)
			}
		case "/stops":
			io.WriteString(w, "x")
			out.Flush()
			<-r.Context().Done()
		case "/silent":
			<-r.Context().Done()
		}
	}))
	defer s.Close()
	read := func(path string) (int, error) {
		ctx, pace := Paced(context.Background(), patience)
		req, err := http.NewRequestWithContext(ctx, "GET", s.URL+path, nil)
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			pace.Stop()
			return 0, pace.Explain(err, "it")
		}
		body := pace.Body(res.Body, "it")
		defer body.Close()
		raw, err := io.ReadAll(body)
		return len(raw), err
	}
	n, err := read("/steady")
	require.NoError(t, err)
	assert.Equal(t, 6<<20, n)
	for _, path := range []string{"/drips", "/stops"} {
		_, err = read(path)
		var slow *SlowError
		assert.ErrorAs(t, err, &slow, path)
	}
	_, err = read("/silent")
	var mute *MuteError
	assert.True(t, errors.As(err, &mute), "%v", err)
}
