package store

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A transaction that the library has cancelled is the database's trouble, unless whoever asked has gone.
func TestWhoEndedATransaction(t *testing.T) {
	cancelled := fmt.Errorf("reading: %w", context.Canceled)
	gone, leave := context.WithCancel(t.Context())
	leave()
	late, end := context.WithDeadline(t.Context(), time.Now().Add(-time.Second))
	defer end()
	other := errors.New("bad SQL")

	assert.True(t, Away(notGone(t.Context(), cancelled)), "the connection was lost")
	assert.ErrorIs(t, notGone(late, cancelled), context.DeadlineExceeded)
	assert.Equal(t, cancelled, notGone(gone, cancelled))
	assert.Equal(t, other, notGone(t.Context(), other))
	assert.NoError(t, notGone(t.Context(), nil))
}
