package media

import (
	"fmt"
	"time"
)

// A Format reads the RTP payloads of one video codec, one frame after the other. It is what the rest of the program knows of a codec:
// a codec is one file with a Format in it, and its line in formats. A Format is not safe for concurrent use and allocates nothing per
// packet once its buffers have grown.
type Format interface {
	// Payload takes the payload of the next RTP packet of the frame under way. An error is a payload that the codec's RFC does not
	// allow, or one of a kind that is not read (see *UnreadError): the frame is then damaged.
	Payload(b []byte) error
	// EndFrame ends the frame under way and says what it was. Its data is valid until the next call of Payload.
	EndFrame() Frame
	// Keep says whether the bytes of the frames are collected. It is on at first.
	Keep(on bool)
	// Picture is what the stream says of its picture in its headers; nil before they have come. The error says why they cannot be right.
	// It is valid until the next call of Payload.
	Picture() (*Picture, error)
	// Decoder is the name that ffmpeg has for the raw stream of this codec.
	Decoder() string
}

// An extended Format reads the RTP header extension (RFC 3550 §5.3.1) of a frame's packets as well. id is its 16-bit profile field.
type extended interface{ Extension(id uint16, b []byte) }

// A FrameKind says what a frame needs to be decoded.
type FrameKind uint8

const (
	Predicted     FrameKind = iota // frames before it
	Bidirectional                  // as coded, frames before it and after it
	Key                            // no other frame
	frameKinds
)

// A Frame is one picture of a stream.
type Frame struct {
	Kind   FrameKind
	Slices int    // of codecs that have them, else 0
	Data   []byte // for a decoder, of a key frame with its parameter sets; nil where they are missing or nothing is kept
}

// A Picture is what the headers of a stream say of it.
type Picture struct {
	Profile       string // as the standard calls it: "Main"
	Level         string // "3.1"
	Tier          string // of H.265: "Main" or "High"
	Width, Height int    // pixels, after cropping
	Aspect        string // of one pixel, width to height, where it is said not to be square: "4:3"
	Interlaced    bool   // the picture may come as two fields
}

// A Keyframe is a whole key frame as it came.
type Keyframe struct {
	Decoder string // see Format
	Data    []byte
	At      time.Time // when its last packet came
}

// An UnreadError is a payload structure that the codec's RFC knows and that is not read here, since it needs the interleaved modes.
type UnreadError struct{ Codec, Structure string }

func (e *UnreadError) Error() string {
	return fmt.Sprintf("the stream sends %s packets of the kind %s, which are not read", e.Codec, e.Structure)
}

// A HeaderError says why a codec's header cannot be right.
type HeaderError struct{ Header, Problem string }

func (e *HeaderError) Error() string { return "the stream's " + e.Header + " " + e.Problem }

// formats are the codecs that are read, by the name in the rtpmap.
var formats = map[string]func(Track) Format{
	"H264":    newH264,
	"H265":    newH265,
	"JPEG":    newJPEG,
	"MP4V-ES": newMPEG4,
}

const (
	// maxKeyframe bounds the bytes kept of one frame.
	maxKeyframe = 8 << 20
	// maxSet bounds one parameter set.
	maxSet = 4096
)

// sizeError reports a size that no picture has: nothing, over maxDimension a side, or over maxPixels in all.
func sizeError(width, height int64) string {
	if width <= 0 || height <= 0 || width > maxDimension || height > maxDimension || width*height > maxPixels {
		return fmt.Sprintf("claims a picture of %d x %d", width, height)
	}
	return ""
}
