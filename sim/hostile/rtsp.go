package hostile

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"net"
	"net/textproto"
	"slices"
	"strings"
	"time"
	"unlatch/core/ground/trouble"
)

// ok returns a whole RTSP answer.
func ok(cseq, fields, body string) string {
	return fmt.Sprintf("RTSP/1.0 200 OK\r\nCSeq: %s\r\n%sContent-Length: %d\r\n\r\n%s", cseq, fields, len(body), body)
}

// Parameter sets of 320 x 180, baseline, as an encoder makes them, and an SPS that claims 16384 x 16384.
var (
	goodSPS, _ = base64.StdEncoding.DecodeString("Z0LADdoFAMf8s4ACQAAB9AAAE4gB4oVA")
	goodPPS, _ = base64.StdEncoding.DecodeString("aM4Pyw==")
	hugeSPS    = []byte{0x67, 0x42, 0x00, 0x1e, 0xf8, 0x00, 0x10, 0x00, 0x08, 0x00, 0x04, 0x00, 0xa0}
)

// hugeSPS265 is an H.265 parameter set that claims 65535 x 65535.
var hugeSPS265, _ = base64.StdEncoding.DecodeString("QgEBImAAAACAAAAAAAB7oAAIAAAABAABgA==")

// of describes a stream of another codec.
func of(rtpmap, fmtp string) string {
	return "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=x\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 " + rtpmap + "\r\na=fmtp:96 " + fmtp +
		"\r\na=control:t\r\n"
}

const sdp = "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=x\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:t\r\n"

// frame returns one interleaved RTP packet.
func frame(seq uint16, stamp uint32, marker bool, payload []byte) string {
	b := make([]byte, 16, 16+len(payload))
	b[0] = '$'
	binary.BigEndian.PutUint16(b[2:], uint16(12+len(payload)))
	b[4], b[5] = 0x80, 96
	if marker {
		b[5] |= 0x80
	}
	binary.BigEndian.PutUint16(b[6:], seq)
	binary.BigEndian.PutUint32(b[8:], stamp)
	b[15] = 1
	return string(append(b, payload...))
}

// noise is n random bytes, the same at each call.
func noise(n int) []byte {
	b := make([]byte, n)
	rand.Read(b)
	return b
}

// plays answers a session and then sends what after makes.
func plays(after func(c *conn)) func(c *conn, n int) {
	return playsAs(sdp, after)
}

func playsAs(description string, after func(c *conn)) func(c *conn, n int) {
	return func(c *conn, _ int) {
		for {
			method, cseq, _, more := c.request()
			if !more {
				return
			}
			switch method {
			case "DESCRIBE":
				c.say(ok(cseq, "Content-Type: application/sdp\r\n", description))
			case "TEARDOWN":
				c.hold() // unanswered
			case "PLAY":
				if !c.say(ok(cseq, "Session: 1\r\n", "")) {
					return
				}
				after(c)
			default:
				c.say(ok(cseq, "Session: 1\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n", ""))
			}
		}
	}
}

// pictures sends frames without end: parameter sets and a key frame each second.
func pictures(sps, pps, key []byte) func(c *conn) {
	return func(c *conn) {
		seq, stamp := uint16(0), uint32(0)
		for {
			for i, nal := range [][]byte{sps, pps, key} {
				if !c.say(frame(seq, stamp, i == 2, nal)) {
					return
				}
				seq++
			}
			stamp += 45000
			select {
			case <-c.stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
}

// flood sends large datagrams to the ports that a session names, from the moment that it knows them and without being asked to.
func flood(c *conn, transport string) {
	_, ports, found := strings.Cut(transport, "client_port=")
	port := 0
	fmt.Sscan(strings.Split(ports, "-")[0], &port)
	if !found || port == 0 {
		return
	}
	local, remote := c.LocalAddr().(*net.TCPAddr), c.RemoteAddr().(*net.TCPAddr)
	out, err := net.DialUDP("udp", &net.UDPAddr{IP: local.IP}, &net.UDPAddr{IP: remote.IP, Port: port})
	if err != nil {
		return
	}
	go func() {
		defer out.Close()
		big := make([]byte, 60_000)
		for {
			select {
			case <-c.stop:
				return
			default:
				out.Write(big)
			}
		}
	}()
}

func streams() []Device {
	return slices.Concat(brokenAnswers(), strangeSignIns(), brokenPlays(), brokenTransports())
}

// each answers each request with what a function says.
func each(answer func(method, cseq string, head textproto.MIMEHeader) string) func(c *conn, n int) {
	return func(c *conn, _ int) { c.each(answer) }
}

// brokenAnswers are stream services whose answers are none.
func brokenAnswers() []Device {
	return []Device{
		{"drips its answer", Streams, trouble.TooSlow, then(func(c *conn) { c.drip("RTSP/1.0 200 OK\r\nX: y\r\n") })},
		{"says nothing", Streams, trouble.Silent, func(c *conn, _ int) { c.hold() }},
		{"sends a line without end", Streams, trouble.Unbounded, then(func(c *conn) { c.say("RTSP/1.0 200 "); c.forever("a") })},
		{"sends header lines without end", Streams, trouble.Unbounded,
			then(func(c *conn) { c.say("RTSP/1.0 200 OK\r\n"); c.forever("X-More: yes\r\n") })},
		{"announces a body of 50 MB", Streams, trouble.Unbounded,
			then(func(c *conn) { c.say("RTSP/1.0 200 OK\r\nContent-Length: 52428800\r\n\r\n"); c.hold() })},
		{"announces a body of less than nothing", Streams, trouble.Broken,
			then(func(c *conn) { c.say("RTSP/1.0 200 OK\r\nContent-Length: -1\r\n\r\n"); c.hold() })},
		{"sends garbage", Streams, trouble.Broken, then(func(c *conn) { c.say("\x00\x01\x02 hello\r\n\r\n"); c.hold() })},
		{"sends requests of its own and answers none", Streams, trouble.OwnRequests, then(func(c *conn) {
			for i := 1; c.say(fmt.Sprintf("OPTIONS * RTSP/1.0\r\nCSeq: %d\r\n\r\n", i)); i++ {
				select {
				case <-c.stop:
					return
				case <-time.After(20 * time.Millisecond):
				}
			}
		})},
		{"answers with another CSeq", Streams, trouble.Broken, each(func(_, _ string,
			_ textproto.MIMEHeader) string {
			return ok("999", "", "")
		})},
		{"floods with packets in place of an answer", Streams, trouble.Broken,
			then(func(c *conn) { c.forever(frame(1, 1, true, make([]byte, 1400))) })},
		{"describes 11,000 tracks", Streams, trouble.BadDescription, each(func(_, cseq string, _ textproto.MIMEHeader) string {
			return ok(cseq, "", "v=0\r\n"+strings.Repeat("m=video 0 RTP/AVP 96\r\n", 11_000))
		})},
		{"describes itself in 300 kB", Streams, trouble.Unbounded, each(func(_, cseq string, _ textproto.MIMEHeader) string {
			return ok(cseq, "", strings.Repeat("a=x\r\n", 60_000))
		})},
		{"describes nothing", Streams, trouble.BadDescription, each(func(_, cseq string,
			_ textproto.MIMEHeader) string {
			return ok(cseq, "", "")
		})},
	}
}

// strangeSignIns are stream services that ask for sign-ins, or lead elsewhere, as no camera does.
func strangeSignIns() []Device {
	return []Device{
		{"wants the password itself", Streams, trouble.Readable, each(func(_, cseq string,
			_ textproto.MIMEHeader) string {
			return wants("RTSP/1.0", cseq, basic)
		})},
		{"wants the password itself once it has the digest", Streams, trouble.WrongSignIn,
			each(func(_, cseq string, head textproto.MIMEHeader) string {
				if head.Get("Authorization") == "" {
					return wants("RTSP/1.0", cseq, digest)
				}
				return wants("RTSP/1.0", cseq, basic, fmt.Sprintf(renewed, 2))
			})},
		{"names a nonce of 7.9 kB", Streams, trouble.Unbounded, each(func(_, cseq string, _ textproto.MIMEHeader) string {
			return wants("RTSP/1.0", cseq, `Digest realm="r", nonce="`+strings.Repeat("n", 7900)+`"`)
		})},
		{"calls every nonce stale", Streams, trouble.WrongSignIn, func(c *conn, _ int) {
			i := 0
			c.each(func(_, cseq string, _ textproto.MIMEHeader) string {
				i++
				return wants("RTSP/1.0", cseq, fmt.Sprintf(renewed, i))
			})
		}},
		{"redirects to itself for ever", Streams, trouble.StreamStatus, func(c *conn, _ int) {
			c.each(func(_, cseq string, _ textproto.MIMEHeader) string {
				return "RTSP/1.0 302 Moved\r\nCSeq: " + cseq + "\r\nLocation: rtsp://" + c.LocalAddr().String() + "/again\r\n\r\n"
			})
		}},
		{"redirects to somebody else", Streams, trouble.OutOfScope, each(func(_, cseq string, _ textproto.MIMEHeader) string {
			return "RTSP/1.0 302 Moved\r\nCSeq: " + cseq + "\r\nLocation: rtsp://127.99.9.9/x\r\n\r\n"
		})},
		{"hangs up after its description", Streams, trouble.Dropped, func(c *conn, _ int) {
			if _, cseq, _, more := c.request(); more {
				c.say(ok(cseq, "", sdp))
				c.request()
			}
		}},
	}
}

// brokenPlays are stream services that play what is no picture.
func brokenPlays() []Device {
	fu := append([]byte{0x7c, 0x85}, noise(1200)...) // FU-A that begins an IDR picture
	return []Device{
		{"plays nothing", Streams, trouble.NoPackets, plays(func(c *conn) { c.hold() })},
		{"plays garbage", Streams, trouble.NoKeyframe, plays(func(c *conn) { c.forever(frame(1, 1, true, noise(1400))) })},
		{"plays a key frame without end", Streams, trouble.NoKeyframe, plays(func(c *conn) {
			for seq := uint16(0); c.say(frame(seq, 7, false, fu)); seq++ {
				fu[1] = 5
			}
		})},
		{"plays a parameter set of no size", Streams, trouble.BadParameterSet,
			plays(pictures([]byte{0x67, 0x42, 0, 0x1e, 0}, goodPPS, append([]byte{0x65}, noise(200)...)))},
		{"plays a picture of 16384 x 16384", Streams, trouble.BadParameterSet,
			plays(pictures(hugeSPS, goodPPS, append([]byte{0x65}, noise(900)...)))},
		{"plays a key frame of random bytes behind a good parameter set", Streams, trouble.NotDecodable,
			plays(pictures(goodSPS, goodPPS, append([]byte{0x65}, noise(900)...)))},
		{"plays H.265 whose parameter set claims 65535 x 65535", Streams, trouble.BadParameterSet,
			playsAs(of("H265/90000", ""), pictures(hugeSPS265, goodPPS, append([]byte{19 << 1, 1}, noise(900)...)))},
		{"plays H.265 in packets that end before their units do", Streams, trouble.BadParameterSet,
			playsAs(of("H265/90000", "sprop-vps=QAE=; sprop-sps="+strings.Repeat("QgEB,", 200)), func(c *conn) {
				c.forever(frame(1, 1, true, append([]byte{48 << 1, 1, 0xff, 0xff}, noise(600)...)))
			})},
		{"says H.264 and plays H.265", Streams, trouble.NoKeyframe, plays(func(c *conn) {
			c.forever(frame(1, 1, true, append([]byte{49 << 1, 1, 0x80 | 19}, make([]byte, 900)...)))
		})},
		{"plays JPEG without tables", Streams, trouble.NoKeyframe, playsAs(of("JPEG/90000", ""), func(c *conn) {
			c.forever(frame(1, 1, true, append([]byte{0, 0, 0, 0, 1, 255, 40, 30, 0, 0, 0, 0}, noise(900)...)))
		})},
		{"plays JPEG of no size", Streams, trouble.BadParameterSet, playsAs(of("JPEG/90000", ""), func(c *conn) {
			c.forever(frame(1, 1, true, append([]byte{0, 0, 0, 0, 1, 80, 0, 0}, noise(900)...)))
		})},
		{"plays MPEG-4 whose headers are noise", Streams, trouble.NoKeyframe,
			playsAs(of("MP4V-ES/90000", "config="+strings.Repeat("000001", 2000)), func(c *conn) {
				c.forever(frame(1, 1, true,
					noise(1400)))
			})},
	}
}

// brokenTransports are stream services whose packets come otherwise than was agreed.
func brokenTransports() []Device {
	return []Device{
		{"has an audio configuration of 40 kB and metadata without end", Streams, trouble.NoKeyframe, playsAs(sdp+
			"m=audio 0 RTP/AVP 97\r\na=rtpmap:97 mpeg4-generic/16000/1\r\na=fmtp:97 config="+strings.Repeat("12",
			20_000)+"\r\na=control:a\r\n"+
			"m=application 0 RTP/AVP 96\r\na=rtpmap:96 vnd.onvif.metadata/90000\r\na=control:m\r\n", func(c *conn) {
			for seq := uint16(0); ; seq++ {
				b := []byte(frame(seq, 1, false, append([]byte("<a>"), noise(1200)...)))
				b[1] = byte(2 * (seq % 3)) // each track in turn
				if !c.say(string(b)) {
					return
				}
			}
		})},
		{"floods with datagrams before it is asked to play", Streams, trouble.NoKeyframe, func(c *conn, _ int) {
			for {
				method, cseq, head, more := c.request()
				if !more {
					return
				}
				transport := head.Get("Transport")
				switch {
				case method == "DESCRIBE":
					c.say(ok(cseq, "", sdp))
				case method == "SETUP" && !strings.Contains(transport, "client_port"):
					c.say("RTSP/1.0 461 Unsupported Transport\r\nCSeq: " + cseq + "\r\n\r\n")
				case method == "SETUP":
					flood(c, transport)
					time.Sleep(200 * time.Millisecond) // a device takes its time, and sends meanwhile
					c.say(ok(cseq, "Session: 1\r\nTransport: "+transport+"\r\n", ""))
				default:
					c.say(ok(cseq, "Session: 1\r\n", ""))
				}
			}
		}},
		{"has a tunnel whose head does not end", Streams, trouble.Unbounded, func(c *conn, _ int) {
			if method, _, _, more := c.request(); !more || method != "GET" {
				c.say("HTTP/1.1 400 Bad Request\r\n\r\n")
				return
			}
			c.say("HTTP/1.0 200 OK\r\n")
			c.forever("X-More: yes\r\n")
		}},
	}
}
