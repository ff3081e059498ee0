package rtsp_test

import (
	"bufio"
	"fmt"
	"strings"

	"unlatch/core/wire/rtsp"
)

func ExampleReadResponse() {
	r, err := rtsp.ReadResponse(bufio.NewReader(strings.NewReader("RTSP/1.0 454 Session Not Found\r\nCSeq: 4\r\n\r\n")))
	fmt.Println(r.Status, r.Reason, r.Header.Get("CSeq"), err)
	// Output: 454 Session Not Found 4 <nil>
}
