package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
)

// jpegFiles is the Format of JPEG files as they are: see Track.Files.
type jpegFiles struct {
	pic    Picture
	known  bool
	picErr error
	data   []byte
	drop   bool
	long   bool // the file is longer than is kept
}

var errJPEGTooLong = errors.New("a JPEG is longer than is kept")

func (f *jpegFiles) Decoder() string { return "mjpeg" }

func (f *jpegFiles) Keep(on bool) { f.drop = !on }

func (f *jpegFiles) Picture() (*Picture, error) {
	if !f.known {
		return nil, f.picErr
	}
	return &f.pic, nil
}

// Payload adds to the file, and reads what its headers say where it is the first part.
func (f *jpegFiles) Payload(b []byte) error {
	if len(f.data) == 0 {
		h, err := readJPEGHeader(b)
		if err != nil {
			f.picErr = &HeaderError{"JPEG header", err.Error()}
			return err
		}
		f.pic = Picture{Width: h.width, Height: h.height, Profile: h.profile}
		f.known, f.picErr = true, nil
	}
	if f.long = f.long || len(f.data)+len(b) > maxKeyframe; f.long {
		return errJPEGTooLong
	}
	f.data = append(f.data, b...)
	return nil
}

func (f *jpegFiles) EndFrame() Frame {
	frame := Frame{Kind: Key}
	if !f.drop && !f.long && len(f.data) > 0 {
		frame.Data = f.data
	}
	f.data, f.long = f.data[:0], false
	return frame
}

// jpegHeader is what the frame header of a JPEG says (ITU-T T.81 §B.2.2).
type jpegHeader struct {
	width, height int // pixels
	profile       string
}

var errNoJPEG = errors.New("is none of a JPEG")

// readJPEGHeader reads the first frame header of a JPEG file.
func readJPEGHeader(b []byte) (h jpegHeader, err error) {
	if !bytes.HasPrefix(b, startOfImage) {
		return h, errNoJPEG
	}
	for at := 2; at+9 < len(b); {
		if b[at] != 0xff {
			return h, errNoJPEG
		}
		marker := b[at+1]
		if marker == 0xff { // fill
			at++
			continue
		}
		n := int(binary.BigEndian.Uint16(b[at+2:]))
		if profile, ok := jpegProfiles[marker]; ok {
			h = jpegHeader{int(binary.BigEndian.Uint16(b[at+7:])), int(binary.BigEndian.Uint16(b[at+5:])), profile}
			if problem := sizeError(int64(h.width), int64(h.height)); problem != "" {
				return h, errors.New(problem)
			}
			return h, nil
		}
		if n < 2 || marker == endOfScan {
			return h, errNoJPEG
		}
		at += 2 + n
	}
	return h, errNoJPEG
}

// jpegProfiles are the ways of coding by their frame markers (ITU-T T.81 table B.1).
var jpegProfiles = map[byte]string{0xc0: "Baseline", 0xc1: "Extended", 0xc2: "Progressive"}

// Markers (ITU-T T.81 table B.1).
const (
	startOfScan = 0xda
	endOfScan   = 0xd9
)

var startOfImage = []byte{0xff, 0xd8}

// A JPEGStreamError says why no pictures come out of a stream of them.
type JPEGStreamError struct{ Problem string }

func (e *JPEGStreamError) Error() string { return "no picture: " + e.Problem }

// mostBetween bounds what stands between two pictures: boundaries and headers have some hundred bytes.
const mostBetween = 256 << 10

// A JPEGScanner finds the JPEG files in a stream of bytes, whatever stands between them: boundaries with dashes or without, headers with a
// length or without, or nothing at all. Each file is walked from marker to marker (ITU-T T.81 annex B), so that a picture within a picture,
// as a thumbnail is, is no picture of the stream. Its zero value is ready; it is not safe for concurrent use.
type JPEGScanner struct {
	b      []byte
	from   int  // where what has not been passed over yet begins in b
	open   bool // a file begins there
	scan   bool // at is within its coded data
	at     int  // in b
	passed int  // bytes since the last file
	wrong  int  // beginnings since the last file that were none
}

// mostWrong bounds the beginnings in a row that turn out to be none.
const mostWrong = 1000

// Take adds b to the stream and calls each with every file that b completes; the file is valid during the call. The error is a
// *JPEGStreamError: what comes holds no pictures, or one that is longer than any camera's.
func (s *JPEGScanner) Take(b []byte, each func(jpeg []byte)) error {
	s.b = append(s.b[:copy(s.b, s.b[s.from:])], b...)
	s.at, s.from = s.at-s.from, 0
	for {
		if !s.open {
			if err := s.begin(); err != nil || !s.open {
				return err
			}
		}
		end, known := s.walk()
		switch {
		case !known && len(s.b)-s.from > maxKeyframe:
			return &JPEGStreamError{fmt.Sprintf("one is over %d MB", maxKeyframe>>20)}
		case !known:
			return nil
		case end == 0:
			if s.wrong++; s.wrong > mostWrong {
				return &JPEGStreamError{"beginnings of one came, and none that goes on"}
			}
			s.drop(len(startOfImage))
		default:
			each(s.b[s.from:end])
			s.drop(end - s.from)
			s.passed, s.wrong = 0, 0
		}
	}
}

// begin looks for the beginning of the next file.
func (s *JPEGScanner) begin() error {
	left := s.b[s.from:]
	i := bytes.Index(left, append(startOfImage[:2:2], 0xff))
	skip := i
	if i < 0 {
		skip = max(0, len(left)-2)
	}
	if page := bytes.ToLower(left[:min(skip, 4096)]); bytes.Contains(page, []byte("<html")) || bytes.Contains(page, []byte("<!doctype")) {
		return &JPEGStreamError{"a page came in place of pictures"}
	}
	if s.passed += skip; s.passed > mostBetween {
		return &JPEGStreamError{fmt.Sprintf("%d kB came without one", s.passed>>10)}
	}
	s.drop(skip)
	s.open, s.at = i >= 0, s.from+len(startOfImage)
	return nil
}

// drop passes over bytes.
func (s *JPEGScanner) drop(n int) {
	s.from += n
	s.open, s.scan, s.at = false, false, s.from
}

// walk goes on from marker to marker. It returns where the file ends once that is known, or 0 where it is none.
func (s *JPEGScanner) walk() (end int, known bool) {
	for {
		if s.scan {
			i := bytes.IndexByte(s.b[s.at:], 0xff)
			if i < 0 {
				s.at = len(s.b)
				return 0, false
			}
			s.at += i
		}
		if s.at+2 > len(s.b) {
			return 0, false
		}
		marker := s.b[s.at+1]
		switch {
		case s.b[s.at] != 0xff:
			return 0, true
		case marker == 0xff: // fill
			s.at++
			continue
		case marker == endOfScan:
			return s.at + 2, true
		case s.scan && marker == startOfImage[1]: // the file before had no end
			return s.at, true
		case s.scan && marker == 0, marker >= 0xd0 && marker <= 0xd7, marker == 0x01: // a byte of data, a restart
			s.at += 2
			continue
		}
		if s.at+4 > len(s.b) {
			return 0, false
		}
		n := int(binary.BigEndian.Uint16(s.b[s.at+2:]))
		if n < 2 {
			return 0, true
		}
		if s.at+2+n > len(s.b) {
			return 0, false
		}
		s.at += 2 + n
		s.scan = marker == startOfScan
	}
}
