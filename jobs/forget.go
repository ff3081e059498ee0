package jobs

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// forgetEvery is how often what is kept no longer is let go.
const forgetEvery = 6 * time.Hour

// forgetting is the name under which one worker at a time does that.
var forgetting = uuid.MustParse("7b1d5b1c-2f6e-4a53-9b39-6f1f0a2b26e0")

// forget lets go what the rule of the installation keeps no longer, now and then. It is called by one goroutine alone.
func (e *env) forget(ctx context.Context) {
	now := time.Now().UTC()
	if e.store.IsFar() || now.Sub(e.forgot) < forgetEvery && !now.Before(e.forgot) {
		return
	}
	e.forgot = now
	_, err := e.store.TryLocked(ctx, forgetting, func(ctx context.Context) error {
		rule, err := e.store.Watched.Keeping(ctx)
		if err != nil {
			return err
		}
		gone, err := e.store.Watched.Forget(ctx, rule, now)
		if err == nil && gone.Records+gone.Exchanges+gone.Partitions > 0 {
			e.log.Info("let go what is kept no longer", "records", gone.Records, "conversations", gone.Exchanges, "partitions", gone.Partitions)
		}
		return err
	})
	if err != nil && ctx.Err() == nil {
		e.log.Warn("what is kept no longer could not be let go", "err", err)
	}
}
