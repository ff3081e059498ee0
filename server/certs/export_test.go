package certs

import (
	"context"
	"time"
)

// Renew asks the source once.
func (k *Keeper) Renew(ctx context.Context) { k.renew(ctx) }

// Wait returns after how long the source is asked again.
func (k *Keeper) Wait() time.Duration { return k.from.renewAfter(k.failed, k.current, k.now()) }
