package evidence_test

import (
	"fmt"
	"net/netip"

	"unlatch/core/decide/evidence"
)

func ExampleDecode() {
	raw, _ := evidence.Encode(evidence.Reached{Addr: netip.MustParseAddr("192.0.2.7"), SkewMS: 90_000})
	body, err := evidence.Decode[evidence.Reached](evidence.Record{Kind: evidence.KindReached, Body: raw})
	fmt.Println(body.Addr, body.ClockWrong(), err)
	// Output: 192.0.2.7 true <nil>
}
