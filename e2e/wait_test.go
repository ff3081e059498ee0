package e2e

import (
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/require"
)

// failOnPanic returns the page with Must functions that fail this test. Without it they panic, which ends all tests.
func failOnPanic(t *testing.T, page *rod.Page) *rod.Page {
	return page.WithPanic(func(why any) { require.Fail(t, "the browser", "%v", why) })
}

// eventually calls ok every tick until it returns true, and fails the test if that takes longer than the given time. It calls ok in the
// test's own goroutine. Testify's Eventually calls it in another one, which goes on after the test has failed and closed its browser; it
// panics there, and that ends all tests.
func eventually(t *testing.T, ok func() bool, within, tick time.Duration, message ...any) {
	t.Helper()
	for end := time.Now().Add(within); !ok(); time.Sleep(tick) {
		if time.Now().After(end) {
			require.Fail(t, "the condition was never true", message...)
		}
	}
}
