package media

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strconv"
)

// Payload types that an Elementary gives its packets; dynamic ones but that of MPEG audio (RFC 3551 §6).
const (
	elementaryPicture = 96
	elementaryAAC     = 97
	elementaryOpus    = 98
	elementaryMPA     = 14
	elementaryJPEG    = 26
)

// maxNALs bounds the NAL units of one access unit.
const maxNALs = 1024

// An Elementary turns the units of an elementary stream, as a transport stream carries them, into the RTP packets that would have carried
// them: so that what comes in a transport stream is measured, looked at and decoded as everything else is. Pictures come as single NAL
// units of any length (RFC 6184 §5.6, RFC 7798 §4.4.1), AAC as RFC 3640 has it, MPEG audio as RFC 2250 §3.5. It is not safe for
// concurrent use.
type Elementary struct {
	track Track
	known bool
	units func(e *Elementary, data []byte, stamp uint64, each func([]byte))
	seq   uint16
	b     []byte
	last  uint64 // time of the last unit at 90 kHz
	step  uint64 // between the last two
}

// NewElementary prepares one for H.264, H.265, JPEG, AAC in ADTS, MPEG audio or Opus, as rtpmaps write them: "H264", "H265", "JPEG",
// "MPEG4-GENERIC", "MPA", "OPUS". ok is false for other codecs.
func NewElementary(codec string) (e *Elementary, ok bool) {
	switch codec {
	case "H264", "H265":
		return &Elementary{known: true, units: (*Elementary).nals,
			track: Track{Kind: "video", Payload: elementaryPicture, Codec: codec, ClockRate: 90000}}, true
	case "JPEG":
		return &Elementary{known: true, units: (*Elementary).file,
			track: Track{Kind: "video", Payload: elementaryJPEG, Codec: codec, ClockRate: 90000, Files: true}}, true
	case "MPEG4-GENERIC":
		return &Elementary{units: (*Elementary).adts}, true
	case "MPA":
		return &Elementary{units: (*Elementary).mpa}, true
	case "OPUS":
		return &Elementary{known: true, units: (*Elementary).opus,
			track: Track{Kind: "audio", Payload: elementaryOpus, Codec: codec, ClockRate: 48000, Channels: 2}}, true
	}
	return nil, false
}

// Track returns what the packets are of; ok is false before the first unit of sound, which says its own rate.
func (e *Elementary) Track() (t Track, ok bool) { return e.track, e.known }

// Unit takes one unit with its presentation time at 90 kHz, where it has one, and hands on its packets, which are valid during the call.
// damaged says that parts of the stream are missing.
func (e *Elementary) Unit(data []byte, pts uint64, timed, damaged bool, each func(packet []byte)) {
	if !timed {
		pts = e.last + e.step
	}
	e.step, e.last = (pts-e.last)&(1<<33-1), pts
	if e.step > 90000*10 {
		e.step = 0
	}
	if damaged {
		e.seq++
	}
	e.units(e, data, pts, each)
}

// packet writes the head of an RTP packet (RFC 3550 §5.1) and hands the packet on with its parts.
func (e *Elementary) packet(stamp uint32, marker bool, each func([]byte), parts ...[]byte) {
	kind := e.track.Payload
	if marker {
		kind |= 0x80
	}
	e.b = append(e.b[:0], 0x80, kind)
	e.b = binary.BigEndian.AppendUint16(e.b, e.seq)
	e.b = binary.BigEndian.AppendUint32(e.b, stamp)
	e.b = append(e.b, 0, 0, 0, 1)
	for _, p := range parts {
		e.b = append(e.b, p...)
	}
	e.seq++
	each(e.b)
}

// nals hands on the NAL units of an access unit (ITU-T H.264 annex B). Delimiters of access units say nothing here.
func (e *Elementary) nals(data []byte, stamp uint64, each func([]byte)) {
	var held []byte
	for n := 0; n < maxNALs; n++ {
		nal, rest, ok := nextNAL(data)
		if !ok {
			break
		}
		data = rest
		if len(nal) < 2 || e.delimits(nal[0]) {
			continue
		}
		if held != nil {
			e.packet(uint32(stamp), false, each, held)
		}
		held = nal
	}
	if held != nil {
		e.packet(uint32(stamp), true, each, held)
	}
}

// file hands on a JPEG file in one packet.
func (e *Elementary) file(data []byte, stamp uint64, each func([]byte)) {
	e.packet(uint32(stamp), true, each, data)
}

func (e *Elementary) delimits(first byte) bool {
	if e.track.Codec == "H265" {
		return first>>1&0x3f == 35
	}
	return first&0x1f == 9
}

// nextNAL returns the first NAL unit of a byte stream, without the zeros that may follow it.
func nextNAL(b []byte) (nal, rest []byte, ok bool) {
	from := bytes.Index(b, startCodePrefix)
	if from < 0 {
		return nil, nil, false
	}
	b = b[from+3:]
	nal, rest = b, nil
	if to := bytes.Index(b, startCodePrefix); to >= 0 {
		nal, rest = b[:to], b[to:]
	}
	for len(nal) > 0 && nal[len(nal)-1] == 0 {
		nal = nal[:len(nal)-1]
	}
	return nal, rest, true
}

// startCodePrefix stands before each NAL unit of a byte stream (ITU-T H.264 §B.1.2).
var startCodePrefix = startCode[1:]

// samplingRates are the sampling frequencies by their index (ISO/IEC 14496-3 table 1.18).
var samplingRates = []int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350}

// adts hands on the frames of AAC with their ADTS headers taken off (ISO/IEC 14496-3 §1.A.2.2); the first says what the track is.
func (e *Elementary) adts(data []byte, stamp uint64, each func([]byte)) {
	for frame := uint64(0); len(data) >= 7; frame++ {
		if data[0] != 0xff || data[1]&0xf6 != 0xf0 {
			return
		}
		object, index := data[2]>>6+1, int(data[2]>>2&0x0f)
		channels := data[2]&1<<2 | data[3]>>6
		size := int(data[3]&3)<<11 | int(data[4])<<3 | int(data[5]>>5)
		head := 7
		if data[1]&1 == 0 { // a CRC follows
			head = 9
		}
		if index >= len(samplingRates) || size < head || size > len(data) {
			return
		}
		rate := samplingRates[index]
		if !e.known {
			config := binary.BigEndian.AppendUint16(nil, uint16(object)<<11|uint16(index)<<7|uint16(channels)<<3)
			e.track = Track{Kind: "audio", Payload: elementaryAAC, Codec: "MPEG4-GENERIC", ClockRate: rate, Channels: int(channels),
				Fmtp: map[string]string{"config": hex.EncodeToString(config), "mode": "AAC-hbr", "sizelength": "13", "indexlength": "3",
					"indexdeltalength": "3"}}
			e.known = true
		}
		unit := data[head:size]
		headers := []byte{0, 16, byte(len(unit) >> 5), byte(len(unit) << 3)} // RFC 3640 §3.3.6
		e.packet(uint32(stamp*uint64(rate)/90000+frame*1024), true, each, headers, unit)
		data = data[size:]
	}
}

// opus hands on packets of Opus (RFC 7587 §4) with the control header of each taken off: a prefix of eleven bits, which of its parts
// follow, the size of the packet in bytes of which each but the last is 255, and those parts.
func (e *Elementary) opus(data []byte, stamp uint64, each func([]byte)) {
	at := stamp * 48000 / 90000
	for len(data) > 3 && data[0] == 0x7f && data[1]&0xe0 == 0xe0 {
		flags, size, n := data[1], 0, 2
		for ; n < len(data) && data[n] == 0xff; n++ {
			size += 255
		}
		if n == len(data) {
			return
		}
		size, n = size+int(data[n]), n+1
		for _, trim := range []byte{0x10, 0x08} {
			if flags&trim != 0 {
				n += 2
			}
		}
		if flags&0x04 != 0 && n < len(data) {
			n += 1 + int(data[n])
		}
		if size == 0 || n+size > len(data) {
			return
		}
		e.packet(uint32(at), true, each, data[n:n+size])
		at += uint64(OpusSamples(data[n : n+size]))
		data = data[n+size:]
	}
}

// mpaRates are the sampling frequencies of MPEG-1 audio by their index (ISO/IEC 11172-3 §2.4.2.3); MPEG-2 halves them.
var mpaRates = []int{44100, 48000, 32000}

// mpa hands on MPEG audio as it is; the first frame says what the track is.
func (e *Elementary) mpa(data []byte, stamp uint64, each func([]byte)) {
	if len(data) < 4 || data[0] != 0xff || data[1]&0xe0 != 0xe0 {
		return
	}
	if !e.known {
		index, layer := int(data[2]>>2&3), 4-int(data[1]>>1&3)
		if index >= len(mpaRates) || layer > 3 {
			return
		}
		rate, channels := mpaRates[index], 2
		if data[1]&0x08 == 0 {
			rate /= 2
		}
		if data[3]>>6 == 3 {
			channels = 1
		}
		e.track = Track{Kind: "audio", Payload: elementaryMPA, Codec: "MPA", ClockRate: 90000, Channels: channels,
			Fmtp: map[string]string{"rate": strconv.Itoa(rate), "layer": fmt.Sprint(layer)}}
		e.known = true
	}
	e.packet(uint32(stamp), true, each, []byte{0, 0, 0, 0}, data)
}
