package sim

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os/exec"
	"sync"
	"time"
)

// A sound is what a stand-in lets hear, in packets that are sent again and again.
type sound struct {
	sdp     string // its media section, without control
	payload byte
	marks   bool          // each packet carries the marker of an element's end
	every   time.Duration // between packets
	step    uint32        // of the RTP clock between packets
	packets [][]byte
}

// sounds are made when a stand-in first needs them.
var sounds = map[string]func() *sound{
	"true":   sync.OnceValue(tone),
	"silent": sync.OnceValue(silence),
	"aac":    sync.OnceValue(aac),
	"g726":   sync.OnceValue(g726),
	"latm":   sync.OnceValue(latm),
	"opus":   sync.OnceValue(opus),
}

const pcmu = "m=audio 0 RTP/AVP 0\r\n"

// tone returns a quiet 440 Hz tone as G.711 µ-law, 20 ms a packet (RFC 3551 §4.5.14). A second of it joins on to itself.
func tone() *sound {
	s := &sound{sdp: pcmu, every: 20 * time.Millisecond, step: 160}
	for n := range 50 {
		body := make([]byte, 160)
		for i := range body {
			body[i] = muLaw(int(1200 * math.Sin(2*math.Pi*440*float64(n*160+i)/8000)))
		}
		s.packets = append(s.packets, body)
	}
	return s
}

// silence returns a track with nothing in it.
func silence() *sound {
	return &sound{sdp: pcmu, every: 20 * time.Millisecond, step: 160, packets: [][]byte{bytes.Repeat([]byte{0xff}, 160)}}
}

// coded lets ffmpeg code four seconds of a tone.
func coded(args ...string) []byte {
	out, err := exec.Command("ffmpeg", append(append([]string{"-v", "error", "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=16000",
		"-t", "4"},
		args...), "pipe:1")...).Output()
	if err != nil {
		panic(fmt.Sprintf("ffmpeg codes the sounds and is not to be had (%v); install Debian's package ffmpeg", err))
	}
	return out
}

// aac is AAC-LC at 16 kHz, one access unit a packet (RFC 3640 §3.3.6).
func aac() *sound {
	raw := coded("-c:a", "aac", "-b:a", "32k", "-ac", "1", "-f", "adts")
	s := &sound{sdp: "m=audio 0 RTP/AVP 97\r\na=rtpmap:97 mpeg4-generic/16000/1\r\na=fmtp:97 streamtype=5; profile-level-id=15; " +
		"mode=AAC-hbr; " +
		"config=1408; sizelength=13; indexlength=3; indexdeltalength=3\r\n", payload: 97, every: 64 * time.Millisecond, step: 1024}
	for _, unit := range units(raw) {
		s.packets = append(s.packets, append(binary.BigEndian.AppendUint16([]byte{0, 16}, uint16(len(unit)<<3)), unit...))
	}
	return s
}

// units returns the access units of an ADTS stream (ISO/IEC 14496-3 §1.A.3).
func units(adts []byte) (out [][]byte) {
	for len(adts) > 7 {
		n := int(adts[3]&3)<<11 | int(adts[4])<<3 | int(adts[5]>>5)
		if n < 7 || n > len(adts) {
			break
		}
		out = append(out, adts[7:n])
		adts = adts[n:]
	}
	return out
}

// latm returns the same as aac in AudioMuxElements whose configuration stands in the description (RFC 6416 §6).
func latm() *sound {
	s := &sound{sdp: "m=audio 0 RTP/AVP 97\r\na=rtpmap:97 MP4A-LATM/16000/1\r\na=fmtp:97 profile-level-id=15; object=2; cpresent=0; " +
		"config=400028103fc0\r\n", payload: 97, marks: true, every: 64 * time.Millisecond, step: 1024}
	for _, unit := range units(coded("-c:a", "aac", "-b:a", "32k", "-ac", "1", "-f", "adts")) {
		size := append(bytes.Repeat([]byte{255}, len(unit)/255), byte(len(unit)%255))
		s.packets = append(s.packets, append(size, unit...))
	}
	return s
}

// opus is Opus, 20 ms a packet (RFC 7587).
func opus() *sound {
	s := &sound{sdp: "m=audio 0 RTP/AVP 96\r\na=rtpmap:96 opus/48000/2\r\n", payload: 96, every: 20 * time.Millisecond, step: 960}
	pages, packet := coded("-c:a", "libopus", "-b:a", "32k", "-ac", "1", "-f", "ogg"), []byte(nil)
	for len(pages) > 27 && len(pages) > 27+int(pages[26]) { // RFC 3533 §6: lengths in pieces of up to 255 bytes, then the packets
		lengths := pages[27 : 27+int(pages[26])]
		pages = pages[27+len(lengths):]
		for _, n := range lengths {
			packet = append(packet, pages[:min(int(n), len(pages))]...)
			if pages = pages[min(int(n), len(pages)):]; n < 255 {
				s.packets = append(s.packets, packet)
				packet = nil
			}
		}
	}
	s.packets = s.packets[2:] // the first two are heads of the file (RFC 7845 §5)
	return s
}

// g726 is G.726 at 32 kbit/s, least significant bits first, 20 ms a packet (RFC 3551 §4.5.4).
func g726() *sound {
	raw := coded("-ar", "8000", "-ac", "1", "-c:a", "g726le", "-b:a", "32k", "-f", "g726le")
	s := &sound{sdp: "m=audio 0 RTP/AVP 98\r\na=rtpmap:98 G726-32/8000\r\n", payload: 98, every: 20 * time.Millisecond, step: 160}
	for ; len(raw) >= 80; raw = raw[80:] {
		s.packets = append(s.packets, raw[:80])
	}
	return s
}

// soundSender sends a sound from a moment on.
type soundSender struct {
	packetiser
	*sound
	began time.Time
	sent  int
}

// due sends what the time since the beginning asks for.
func (t *soundSender) due() {
	for want := int(time.Since(t.began) / t.every); t.sent < want; t.sent++ {
		t.packet(t.payload, uint32(t.sent)*t.step, t.sent == 0 || t.marks, nil, t.packets[t.sent%len(t.packets)])
	}
}

// muLaw codes one 16-bit sample (ITU-T G.711).
func muLaw(s int) byte {
	sign := byte(0)
	if s < 0 {
		s, sign = -s, 0x80
	}
	s = min(s, 32635) + 132
	exp := byte(7)
	for mask := 0x4000; s&mask == 0 && exp > 0; mask >>= 1 {
		exp--
	}
	return ^(sign | exp<<4 | byte(s>>(exp+3))&0x0f)
}
