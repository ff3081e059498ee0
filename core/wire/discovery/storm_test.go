package discovery

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Storms are told by counts: at an address, of a site within a minute, and of what one device announces.
func TestStorms(t *testing.T) {
	at := netip.MustParseAddr("192.0.2.7")
	assert.NoError(t, Storming(at, MostAtAddress-1, MostAnnounced-1, false))
	assert.ErrorContains(t, Storming(at, MostAtAddress, 0, true), "8 devices at 192.0.2.7")
	assert.Error(t, Storming(at, 0, MostAnnounced, false))
	assert.NoError(t, Storming(at, 0, MostAnnounced, true), "a sweep finds more")
	assert.Error(t, Storming(at, 0, MostSwept, true))
	assert.NoError(t, ToldEnough("192.0.2.7", MostTold-1, MostToldHourly-1))
	assert.Error(t, ToldEnough("192.0.2.7", MostTold, MostTold))
	assert.Error(t, ToldEnough("192.0.2.7", 0, MostToldHourly))
}
