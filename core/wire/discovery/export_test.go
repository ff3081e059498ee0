package discovery

import (
	"bytes"
	"net/netip"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// ReadAnswers gives bytes to every parser of an outside answer.
func ReadAnswers(b []byte) {
	mdnsAnswer(b)
	ssdpAnswer(b, netip.MustParseAddr("192.0.2.7"))
	parseDescription(b)
	parseNeighbours(bytes.NewReader(b), address.MustParse("192.0.2.0/24"))
}

// ReadNeighbours reads a neighbour table for the tests.
func ReadNeighbours(table string, ranges address.Ranges) []sighting.Sighting {
	return parseNeighbours(bytes.NewReader([]byte(table)), ranges)
}
