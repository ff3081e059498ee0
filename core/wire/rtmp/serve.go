package rtmp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// A Frame is one picture that was taken in, as a byte stream with start codes; a key frame comes with its parameter sets.
type Frame struct {
	Data []byte
	Key  bool
	MS   uint32
}

// A Hearer is a Taker that takes sound as well: access units of AAC, and their configuration before them, one of the two at a time.
type Hearer interface {
	Sound(key string, unit, config []byte)
}

// A Taker decides about the streams that an ingest is offered.
type Taker interface {
	// App reports whether there is an application of a name.
	App(name string) bool
	// Begin says whether a stream key is good: an error is the reason, as a code of RTMP.
	Begin(app, key string) error
	// Frame takes a picture; End is told when the stream is over.
	Frame(key string, f Frame)
	End(key string)
}

// maxSilence ends a stream of which nothing comes.
const maxSilence = 20 * time.Second

// Serve takes in one stream on a connection and closes it when the stream is over.
func Serve(conn net.Conn, t Taker) error {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(2 * answerTime))
	if err := shaken(conn); err != nil {
		return err
	}
	s := &session{conn: conn, in: newChunkReader(conn), out: chunkWriter{w: conn, size: 128}, t: t}
	defer func() {
		if s.key != "" {
			t.End(s.key)
		}
	}()
	for {
		conn.SetDeadline(time.Now().Add(maxSilence))
		m, err := s.in.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = s.take(m)
		}
		if err != nil {
			return err
		}
	}
}

func shaken(conn net.Conn) error {
	c := make([]byte, 1+handshakeSize)
	if _, err := io.ReadFull(conn, c); err != nil {
		return err
	}
	if c[0] != 3 {
		return fmt.Errorf("version %d is not RTMP 1.0", c[0])
	}
	s := append([]byte{3}, make([]byte, handshakeSize)...)
	if _, err := conn.Write(append(s, c[1:]...)); err != nil {
		return err
	}
	_, err := io.ReadFull(conn, c[:handshakeSize])
	return err
}

type session struct {
	conn     net.Conn
	in       *chunkReader
	out      chunkWriter
	t        Taker
	app, key string
	sps, pps []byte
}

func (s *session) answer(stream uint32, values ...any) error {
	return s.out.write(3, message{kind: msgCommand, stream: stream, payload: appendAMF(nil, values...)})
}

var errEnded = errors.New("the stream was turned down")

func (s *session) take(m message) error {
	switch m.kind {
	case msgVideo:
		return s.video(m)
	case msgAudio:
		s.audio(m)
	case msgCommand:
		v, err := readAMF(m.payload)
		if err != nil || len(v) < 2 {
			return errAMF
		}
		return s.command(m, v)
	}
	return nil
}

func (s *session) command(m message, v []any) error {
	switch v[0] {
	case "connect":
		arg, _ := v[len(v)-1].(Object)
		s.app, _ = arg["app"].(string)
		if !s.t.App(s.app) {
			s.answer(0, "_error", v[1], nil, Object{"level": "error", "code": "NetConnection.Connect.Rejected",
				"description": "no such application"})
			return errEnded
		}
		s.out.write(2, message{kind: msgWindow, payload: binary.BigEndian.AppendUint32(nil, 2_500_000)})
		s.out.write(2, message{kind: msgBandwidth, payload: append(binary.BigEndian.AppendUint32(nil, 2_500_000), 2)})
		return s.answer(0, "_result", v[1], Object{"capabilities": 31.0}, Object{"level": "status", "code": "NetConnection.Connect.Success"})
	case "createStream":
		return s.answer(0, "_result", v[1], nil, 1.0)
	case "publish":
		if len(v) < 4 {
			return errAMF
		}
		key, _ := v[3].(string)
		if err := s.t.Begin(s.app, key); err != nil {
			s.answer(m.stream, "onStatus", 0.0, nil, Object{"level": "error", "code": "NetStream.Publish.BadName", "description": err.Error()})
			return errEnded
		}
		s.key = key
		return s.answer(m.stream, "onStatus", 0.0, nil, Object{"level": "status", "code": "NetStream.Publish.Start"})
	case "deleteStream", "FCUnpublish":
		return io.EOF
	}
	return nil
}

// audio takes one FLV audio tag of AAC (Video File Format §E.4.2).
func (s *session) audio(m message) {
	h, ok := s.t.(Hearer)
	if b := m.payload; ok && s.key != "" && len(b) > 2 && b[0]>>4 == 10 {
		if b[1] == 0 {
			h.Sound(s.key, nil, append([]byte(nil), b[2:]...))
		} else {
			h.Sound(s.key, append([]byte(nil), b[2:]...), nil)
		}
	}
}

var startCode = []byte{0, 0, 0, 1}

// video takes one FLV video tag (Video File Format §E.4.3).
func (s *session) video(m message) error {
	b := m.payload
	if s.key == "" || len(b) < 5 || b[0]&0x0f != 7 { // other codecs than AVC are passed over
		return nil
	}
	key := b[0]>>4 == 1
	if b[1] == 0 {
		var err error
		s.sps, s.pps, err = parameterSets(b[5:])
		return err
	}
	f := Frame{Key: key, MS: m.stamp}
	if key {
		f.Data = append(append(f.Data, startCode...), s.sps...)
		f.Data = append(append(f.Data, startCode...), s.pps...)
	}
	for b = b[5:]; len(b) >= 4; {
		n := int(binary.BigEndian.Uint32(b))
		if n > len(b)-4 || n < 0 {
			return errors.New("a NAL unit longer than its frame")
		}
		f.Data = append(append(f.Data, startCode...), b[4:4+n]...)
		b = b[4+n:]
	}
	s.t.Frame(s.key, f)
	return nil
}

// parameterSets reads the first of each kind out of an AVCDecoderConfigurationRecord.
func parameterSets(b []byte) (sps, pps []byte, err error) {
	bad := errors.New("a decoder configuration that cannot be read")
	if len(b) < 8 || b[5]&0x1f != 1 {
		return nil, nil, bad
	}
	n := int(binary.BigEndian.Uint16(b[6:]))
	if len(b) < 8+n+3 {
		return nil, nil, bad
	}
	sps, b = b[8:8+n], b[8+n:]
	n = int(binary.BigEndian.Uint16(b[1:]))
	if b[0] == 0 || len(b) < 3+n {
		return nil, nil, bad
	}
	return sps, b[3 : 3+n], nil
}
