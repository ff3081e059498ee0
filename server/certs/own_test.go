package certs

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A certificate that was made while the clock stood in 1970 is made anew once the clock is right.
func TestACertificateOfAWrongClockIsMadeAnew(t *testing.T) {
	t.Parallel()
	o := newOwn(t.TempDir(), []string{"bench.example"})
	wrong, err := o.get(t.Context(), time.Unix(240, 0))
	require.NoError(t, err)
	assert.Equal(t, 1972, wrong.Leaf.NotAfter.Year())
	right, err := o.get(t.Context(), time.Now())
	require.NoError(t, err)
	assert.NotEqual(t, Fingerprint(wrong), Fingerprint(right))
	assert.True(t, right.Leaf.NotAfter.After(time.Now()))
	again, err := o.get(t.Context(), time.Now())
	require.NoError(t, err)
	assert.Equal(t, Fingerprint(right), Fingerprint(again))
	for _, name := range []string{"localhost", "bench.example"} {
		assert.Equal(t, name == "bench.example", right.Leaf.VerifyHostname(name) == nil)
	}
}
