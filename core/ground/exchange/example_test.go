package exchange_test

import (
	"fmt"

	"unlatch/core/ground/exchange"
)

func ExampleRead() {
	log := exchange.NewLog(nil)
	log.Sent("DESCRIBE rtsp://192.0.2.7/main RTSP/1.0\r\nCSeq: 1\r\n\r\n")
	log.Got("RTSP/1.0 404 Not Found\r\nCSeq: 1\r\n\r\n")
	for _, turn := range exchange.Read(log.String()) {
		fmt.Println(turn.Asked, "→", turn.Answer)
	}
	// Output: DESCRIBE /main → 404 Not Found
}
