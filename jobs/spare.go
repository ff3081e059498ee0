package jobs

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// sparedFor is for how long a message is not written again.
const sparedFor = 10 * time.Minute

// spare returns a log for River's own messages: errors alone, and each once in a while. While the database is away River says so every few
// seconds, for as long as that takes.
func spare(log *slog.Logger) *slog.Logger {
	return slog.New(sparing{log.Handler(), &spared{last: map[string]time.Time{}}})
}

type sparing struct {
	slog.Handler
	*spared
}

// spared is when each message was written last. River has some dozens of them.
type spared struct {
	mu   sync.Mutex
	last map[string]time.Time
}

// Enabled implements slog.Handler.
func (s sparing) Enabled(ctx context.Context, at slog.Level) bool {
	return at >= slog.LevelError && s.Handler.Enabled(ctx, at)
}

// Handle implements slog.Handler.
func (s sparing) Handle(ctx context.Context, r slog.Record) error {
	s.mu.Lock()
	again := r.Time.Sub(s.last[r.Message]) < sparedFor
	if !again {
		s.last[r.Message] = r.Time
	}
	s.mu.Unlock()
	if again {
		return nil
	}
	return s.Handler.Handle(ctx, r)
}

// WithAttrs implements slog.Handler.
func (s sparing) WithAttrs(a []slog.Attr) slog.Handler {
	return sparing{s.Handler.WithAttrs(a), s.spared}
}

// WithGroup implements slog.Handler.
func (s sparing) WithGroup(name string) slog.Handler {
	return sparing{s.Handler.WithGroup(name), s.spared}
}
