package e2e

import (
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/require"
)

// failing makes the page's Must functions fail the test. As they come they panic, which ends the tests of all others, too.
func failing(t *testing.T, page *rod.Page) *rod.Page {
	return page.WithPanic(func(why any) { require.Fail(t, "the browser", "%v", why) })
}

// eventually asks every tick until ok reports true, and fails the test if it has not within the given time. It asks in the goroutine
// of the test. Testify's asks in one of its own, which still asks the page when a test that has failed closes its browser: that panics
// and takes all other tests with it.
func eventually(t *testing.T, ok func() bool, within, tick time.Duration, message ...any) {
	t.Helper()
	for end := time.Now().Add(within); !ok(); time.Sleep(tick) {
		if time.Now().After(end) {
			require.Fail(t, "the condition was never true", message...)
		}
	}
}
