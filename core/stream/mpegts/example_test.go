package mpegts_test

import (
	"fmt"
	"time"

	"unlatch/core/stream/mpegts"
)

// A packet that holds nothing keeps the bitrate of a stream constant.
func ExampleDemuxer() {
	d := mpegts.Demuxer{Each: func(mpegts.Unit) {}}
	packet := make([]byte, mpegts.PacketSize)
	copy(packet, []byte{0x47, 0x1f, 0xff, 0x10})
	d.Datagram(packet, time.Now())
	fmt.Println(d.Measured().Packets, d.Measured().Null)
	// Output: 1 1
}
