package media_test

import (
	"fmt"

	"unlatch/core/stream/media"
)

func ExampleParseSDP() {
	sdp, err := media.ParseSDP([]byte("v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:track1\r\n"))
	fmt.Println(len(sdp.Tracks), sdp.Tracks[0].Codec, err)
	fmt.Println(media.ControlURL("rtsp://192.0.2.7/main/", sdp.Tracks[0].Control))
	// Output:
	// 1 H264 <nil>
	// rtsp://192.0.2.7/main/track1
}
