package media

import "time"

// A Format reads the RTP payloads of one video codec, one frame after the other. It is what the rest of the program knows of a codec:
// a codec is one file with a Format in it, and its line in formats. A Format is not safe for concurrent use and allocates nothing per
// packet once its buffers have grown.
type Format interface {
	// Payload takes the payload of the next RTP packet of the frame under way. An error is a payload that the codec's RFC does not
	// allow: the frame is then damaged.
	Payload(b []byte) error
	// EndFrame ends the frame under way and says what it was. Its data is valid until the next call of Payload.
	EndFrame() Frame
	// Keep says whether the bytes of the frames are collected. It is on at first.
	Keep(on bool)
	// Picture is what the stream says of its picture in its headers; nil before they have come. The error says why they cannot be right.
	Picture() (*Picture, error)
	// Decoder is the name that ffmpeg has for the raw stream of this codec.
	Decoder() string
}

// A Frame is one picture of a stream.
type Frame struct {
	Key  bool   // it can be decoded without another
	Data []byte // for a decoder, of a key frame with its parameter sets; nil where they are missing or nothing is kept
}

// A Picture is what the headers of a stream say of it.
type Picture struct {
	Profile       string // as the standard calls it: "Main"
	Level         string // "3.1"
	Width, Height int    // pixels, after cropping
}

// A Keyframe is a whole key frame as it came.
type Keyframe struct {
	Decoder string // see Format
	Data    []byte
	At      time.Time // when its last packet came
}

// formats are the codecs that are read, by the name in the rtpmap.
var formats = map[string]func(Track) Format{
	"H264": newH264,
}

// maxKeyframe bounds the bytes kept of one frame.
const maxKeyframe = 8 << 20
