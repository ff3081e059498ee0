package bringup_test

import (
	"context"

	"unlatch/core/decide/latch"
	"unlatch/core/work/bringup"
)

// What a job does with one device; record and keyring are the store's.
func Example() {
	open := func(ctx context.Context, d *latch.Device, c bringup.Config) error {
		work := bringup.Start(d, c)
		defer work.Close()
		return work.Open(ctx)
	}
	_ = open
}
