package diagnose_test

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/wire/rtsp"
)

func ExampleExplain() {
	err := &rtsp.StatusError{Method: "DESCRIBE", Status: 453, Reason: "Not Enough Bandwidth"}
	d := diagnose.Explain(err, diagnose.Facts{Host: "192.0.2.7", Port: 554, Asking: "the stream"})
	fmt.Println(d.Cause)
	fmt.Println(d.Fix)
	// Output:
	// session_limit
	// Close other viewers of this camera (recorders, players, wall panels) or raise its session limit, then try again.
}
