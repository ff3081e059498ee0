package rtmp

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"path"
	"strings"
	"time"

	"unlatch/core/ground/address"
)

// A RejectedError is a platform's no. Key tells a wrong stream key from a wrong application, which is part of the address.
type RejectedError struct {
	Key  bool
	Code string // as the platform says it: NetStream.Publish.BadName
	Text string
}

func (e *RejectedError) Error() string {
	what := "the ingest address"
	if e.Key {
		what = "the stream key"
	}
	return fmt.Sprintf("the platform turns %s down (%s)", what, e.Code)
}

// An Ingest is where a platform takes pictures in.
type Ingest struct {
	Host   string // host:port
	App    string
	Secure bool // over TLS (rtmps)
}

// String returns the address, without a key.
func (i Ingest) String() string {
	scheme := "rtmp"
	if i.Secure {
		scheme = "rtmps"
	}
	return scheme + "://" + i.Host + "/" + i.App
}

// ErrKeyInAddress means that an ingest address holds what looks like a stream key, which is a secret and has a place of its own.
var ErrKeyInAddress = errors.New("the last part of the address looks like the stream key")

// looksLikeKey reports whether a part of a path is no word that a person would choose: long, with letters and digits.
func looksLikeKey(s string) bool {
	return len(s) >= 8 && strings.ContainsAny(s, "0123456789") && strings.ContainsAny(strings.ToLower(s), "abcdefghijklmnopqrstuvwxyz") ||
		len(s) >= 20
}

// ParseIngest reads rtmp://host[:port]/app, or rtmps for TLS. An address that holds a stream key is an ErrKeyInAddress.
func ParseIngest(text string) (Ingest, error) {
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil || u.Scheme != "rtmp" && u.Scheme != "rtmps" || u.Hostname() == "" || strings.Trim(u.Path, "/") == "" || u.User != nil {
		return Ingest{}, errors.New("an ingest address is written like rtmp://ingest.example/live, without the stream key")
	}
	if u.RawQuery != "" || strings.Count(strings.Trim(u.Path, "/"), "/") > 0 && looksLikeKey(path.Base(u.Path)) {
		return Ingest{}, ErrKeyInAddress
	}
	secure := u.Scheme == "rtmps"
	port := cmp.Or(u.Port(), map[bool]string{false: "1935", true: "443"}[secure])
	return Ingest{net.JoinHostPort(u.Hostname(), port), strings.Trim(u.Path, "/"), secure}, nil
}

// A Publisher sends one picture to a platform. It is not safe for concurrent use.
type Publisher struct {
	conn    net.Conn
	out     chunkWriter
	in      *chunkReader
	stream  uint32
	headers []byte // the AVC decoder configuration that was sent last
	began   bool
	failed  chan error
}

// answerTime is how long a platform gets for one answer.
const answerTime = 5 * time.Second

// Publish connects by dial, which speaks TLS where the ingest is secure, agrees on the stream and returns once the platform has said that
// it takes it in. The error is a *RejectedError or one of the network.
func Publish(ctx context.Context, dial address.Dialer, to Ingest, key string) (_ *Publisher, err error) {
	conn, err := dial.DialContext(ctx, "tcp", to.Host)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			conn.Close()
		}
	}()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	conn.SetDeadline(time.Now().Add(2 * answerTime))
	if err := shake(conn); err != nil {
		return nil, fmt.Errorf("the handshake of RTMP: %w", err)
	}
	p := &Publisher{conn: conn, out: chunkWriter{w: conn, size: 128}, in: newChunkReader(conn), failed: make(chan error, 1)}
	size := binary.BigEndian.AppendUint32(nil, 4096)
	if err := p.out.write(2, message{kind: msgChunkSize, payload: size}); err != nil {
		return nil, err
	}
	p.out.size = 4096
	if _, err := p.call("connect", 1, Object{"app": to.App, "type": "nonprivate", "flashVer": "FMLE/3.0",
		"tcUrl": to.String()}); err != nil {
		return nil, err
	}
	answer, err := p.call("createStream", 2, nil)
	if err != nil {
		return nil, err
	}
	id, _ := answer[len(answer)-1].(float64)
	p.stream = uint32(id)
	if err := p.send(p.stream, "publish", 3, nil, key, "live"); err != nil {
		return nil, err
	}
	if err := p.started(); err != nil {
		return nil, err
	}
	conn.SetDeadline(time.Time{})
	go p.listen()
	return p, nil
}

// shake is the plain handshake (§5.2), the client's side.
func shake(conn net.Conn) error {
	c := make([]byte, 1+handshakeSize)
	c[0] = 3
	rand.Read(c[9:])
	if _, err := conn.Write(c); err != nil {
		return err
	}
	s := make([]byte, 1+2*handshakeSize)
	if _, err := io.ReadFull(conn, s[:1+handshakeSize]); err != nil {
		return err
	}
	if s[0] != 3 {
		return fmt.Errorf("version %d is not RTMP 1.0", s[0])
	}
	if _, err := conn.Write(s[1 : 1+handshakeSize]); err != nil {
		return err
	}
	_, err := io.ReadFull(conn, s[1+handshakeSize:])
	return err
}

func (p *Publisher) send(stream uint32, values ...any) error {
	return p.out.write(3, message{kind: msgCommand, stream: stream, payload: appendAMF(nil, values...)})
}

// call sends a command and waits for its result.
func (p *Publisher) call(name string, id int, arg any) ([]any, error) {
	if err := p.send(0, name, id, arg); err != nil {
		return nil, err
	}
	for {
		v, err := p.command()
		if err != nil {
			return nil, err
		}
		switch v[0] {
		case "_result":
			return v, nil
		case "_error":
			return nil, rejected(v, false)
		}
	}
}

// started waits for the word that the stream is taken in.
func (p *Publisher) started() error {
	for {
		v, err := p.command()
		if err != nil {
			return err
		}
		info, _ := v[len(v)-1].(Object)
		switch {
		case v[0] == "onStatus" && info["code"] == "NetStream.Publish.Start":
			return nil
		case v[0] == "onStatus" && info["level"] == "error", v[0] == "_error":
			return rejected(v, true)
		}
	}
}

func rejected(v []any, key bool) error {
	info, _ := v[len(v)-1].(Object)
	code, _ := info["code"].(string)
	text, _ := info["description"].(string)
	return &RejectedError{Key: key, Code: code, Text: text}
}

// command reads up to the next command; what else comes is passed over.
func (p *Publisher) command() ([]any, error) {
	for range 1000 {
		m, err := p.in.next()
		if err != nil {
			return nil, err
		}
		if m.kind != msgCommand {
			continue
		}
		v, err := readAMF(m.payload)
		if err != nil {
			return nil, err
		}
		if len(v) > 1 {
			return v, nil
		}
	}
	return nil, errors.New("the platform talks on and answers nothing")
}

// listen notices when the platform ends the stream.
func (p *Publisher) listen() {
	for {
		m, err := p.in.next()
		if err != nil {
			p.failed <- err
			return
		}
		if m.kind != msgCommand {
			continue
		}
		v, err := readAMF(m.payload)
		if info, ok := last(v).(Object); err == nil && ok && info["level"] == "error" {
			p.failed <- rejected(v, true)
			return
		}
	}
}

func last(v []any) any {
	if len(v) == 0 {
		return nil
	}
	return v[len(v)-1]
}

// Video sends one H.264 frame, a byte stream of NAL units (Annex B); a key frame comes with its parameter sets. at is when it is decoded,
// and later by how much later it is shown (Video File Format §E.4.3.1: the composition time), both in ms. Nothing is sent before the first
// key frame.
func (p *Publisher) Video(frame []byte, key bool, at uint32, later int32) error {
	if err := p.Failed(); err != nil {
		return err
	}
	sps, pps, rest := split(frame)
	if key && sps != nil && pps != nil {
		config := decoderConfig(sps, pps)
		if string(config) != string(p.headers) {
			p.headers = config
			if err := p.tag(msgVideo, at, append([]byte{0x17, 0, 0, 0, 0}, config...)); err != nil {
				return err
			}
		}
		p.began = true
	}
	if !p.began || len(rest) == 0 {
		return nil
	}
	head := []byte{0x27, 1, byte(later >> 16), byte(later >> 8), byte(later)}
	if key {
		head[0] = 0x17
	}
	return p.tag(msgVideo, at, append(head, rest...))
}

// Failed returns why the platform has ended the stream; nil while it has not.
func (p *Publisher) Failed() error {
	select {
	case err := <-p.failed:
		p.failed <- err
		return err
	default:
		return nil
	}
}

// Audio sends one AAC frame; config is its AudioSpecificConfig, sent first and when it changes.
func (p *Publisher) Audio(frame, config []byte, at uint32) error {
	if frame == nil {
		return p.tag(msgAudio, at, append([]byte{0xaf, 0}, config...))
	}
	return p.tag(msgAudio, at, append([]byte{0xaf, 1}, frame...))
}

func (p *Publisher) tag(kind byte, at uint32, payload []byte) error {
	p.conn.SetWriteDeadline(time.Now().Add(answerTime))
	return p.out.write(map[byte]byte{msgVideo: 6, msgAudio: 4}[kind], message{kind: kind, stream: p.stream, stamp: at, payload: payload})
}

// Close ends the stream at the platform and the connection.
func (p *Publisher) Close() error {
	p.conn.SetWriteDeadline(time.Now().Add(time.Second))
	p.send(0, "deleteStream", 4, nil, float64(p.stream))
	return p.conn.Close()
}

// split takes the parameter sets out of a byte stream; the other NAL units come back with their lengths before them (ISO/IEC 14496-15
// §5.3.4.2).
func split(b []byte) (sps, pps, rest []byte) {
	for _, nal := range nals(b) {
		switch nal[0] & 0x1f {
		case 7:
			sps = nal
		case 8:
			pps = nal
		case 9: // an access unit delimiter says nothing here
		default:
			rest = append(binary.BigEndian.AppendUint32(rest, uint32(len(nal))), nal...)
		}
	}
	return sps, pps, rest
}

// nals parts a byte stream at its start codes (ITU-T H.264 annex B).
func nals(b []byte) (out [][]byte) {
	begin := -1
	for i := 0; i+2 < len(b); i++ {
		if b[i] != 0 || b[i+1] != 0 || b[i+2] != 1 {
			continue
		}
		if begin >= 0 {
			out = appendNAL(out, b[begin:i])
		}
		begin = i + 3
		i += 2
	}
	if begin >= 0 {
		out = appendNAL(out, b[begin:])
	}
	return out
}

// appendNAL leaves out the zero byte of the next start code.
func appendNAL(out [][]byte, nal []byte) [][]byte {
	for len(nal) > 0 && nal[len(nal)-1] == 0 {
		nal = nal[:len(nal)-1]
	}
	if len(nal) == 0 {
		return out
	}
	return append(out, nal)
}

// decoderConfig returns the AVCDecoderConfigurationRecord (ISO/IEC 14496-15 §5.3.3.1).
func decoderConfig(sps, pps []byte) []byte {
	if len(sps) < 4 {
		return nil
	}
	b := []byte{1, sps[1], sps[2], sps[3], 0xff, 0xe1}
	b = append(binary.BigEndian.AppendUint16(b, uint16(len(sps))), sps...)
	b = append(b, 1)
	return append(binary.BigEndian.AppendUint16(b, uint16(len(pps))), pps...)
}
