package jobs

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the queue says again and again while the database is away is written once in a while.
func TestTheSameMessageIsSpared(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	log := spare(slog.New(slog.NewTextHandler(&out, nil)))
	h, began := log.With("queue", "site").Handler(), time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	say := func(text string, after time.Duration) {
		require.NoError(t, h.Handle(context.Background(), slog.NewRecord(began.Add(after), slog.LevelError, text, 0)))
	}
	for n := range 120 { // twenty minutes
		say("the producer cannot fetch", time.Duration(n)*10*time.Second)
		log.Info("the producer works")
	}
	say("another", time.Minute)
	assert.Equal(t, 2, strings.Count(out.String(), "cannot fetch"))
	assert.Equal(t, 1, strings.Count(out.String(), "another"))
	assert.NotContains(t, out.String(), "the producer works")
}
