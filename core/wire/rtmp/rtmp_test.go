package rtmp

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type platform struct {
	frames chan Frame
	ended  chan string
	sound  chan [2][]byte
}

func (p *platform) App(name string) bool { return name == "live" }

func (p *platform) Begin(_, key string) error {
	if key != "right-key" {
		return errors.New("no such key")
	}
	return nil
}

// Sound implements Hearer.
func (p *platform) Sound(_ string, unit, config []byte) { p.sound <- [2][]byte{unit, config} }

func (p *platform) Frame(_ string, f Frame) { p.frames <- f }
func (p *platform) End(key string)          { p.ended <- key }

func serve(t *testing.T) (*platform, Ingest) {
	l, err := net.Listen("tcp4", "127.46.30.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	p := &platform{make(chan Frame, 8), make(chan string, 1), make(chan [2][]byte, 8)}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go Serve(conn, p)
		}
	}()
	return p, Ingest{Host: l.Addr().String(), App: "live"}
}

var (
	sps  = []byte{0x67, 0x42, 0x00, 0x1f, 0x96}
	pps  = []byte{0x68, 0xce, 0x38, 0x80}
	code = []byte{0, 0, 0, 1}
)

// What is sent comes in as it was: a key frame with its parameter sets, frames larger than a chunk, times over 24 bits.
func TestAPictureArrives(t *testing.T) {
	p, to := serve(t)
	pub, err := Publish(context.Background(), &net.Dialer{}, to, "right-key")
	require.NoError(t, err)
	idr := append([]byte{0x65}, bytes.Repeat([]byte{0x5a}, 20_000)...)
	key := bytes.Join([][]byte{nil, sps, pps, idr}, code)
	late := append(append([]byte{}, code...), append([]byte{0x41}, bytes.Repeat([]byte{7}, 300)...)...)
	require.NoError(t, pub.Video(late, false, 5, 0), "nothing goes out before a key frame")
	require.NoError(t, pub.Video(key, true, 40, 0))
	require.NoError(t, pub.Video(late, false, 0x1000005, 80))
	first, second := <-p.frames, <-p.frames
	assert.Equal(t, Frame{Data: key, Key: true, MS: 40}, first)
	assert.Equal(t, Frame{Data: late, MS: 0x1000005}, second)
	require.NoError(t, pub.Audio(nil, []byte{0x14, 0x08}, 50))
	require.NoError(t, pub.Audio([]byte{1, 2, 3}, nil, 60))
	assert.Equal(t, [2][]byte{nil, {0x14, 0x08}}, <-p.sound, "the configuration of AAC goes before its frames")
	assert.Equal(t, [2][]byte{{1, 2, 3}, nil}, <-p.sound)
	require.NoError(t, pub.Close())
	assert.Equal(t, "right-key", <-p.ended)
}

// A wrong key is told apart from a wrong address.
func TestWhatIsWrongIsTold(t *testing.T) {
	_, to := serve(t)
	var no *RejectedError
	_, err := Publish(context.Background(), &net.Dialer{}, to, "wrong-key")
	require.ErrorAs(t, err, &no)
	assert.True(t, no.Key)
	_, err = Publish(context.Background(), &net.Dialer{}, Ingest{Host: to.Host, App: "nowhere"}, "right-key")
	require.ErrorAs(t, err, &no)
	assert.False(t, no.Key)
	assert.NotContains(t, err.Error(), "right-key")
	_, err = ParseIngest("http://127.0.0.1/live")
	assert.Error(t, err)
	in, err := ParseIngest("rtmp://127.0.0.1/live/")
	require.NoError(t, err)
	assert.Equal(t, Ingest{Host: "127.0.0.1:1935", App: "live"}, in)
}

func TestAMFReadsWhatItWrote(t *testing.T) {
	in := []any{"connect", 1.0, Object{"app": "live", "yes": true, "deep": Object{"x": nil}}, nil}
	out, err := readAMF(appendAMF(nil, in...))
	require.NoError(t, err)
	assert.Equal(t, in, out)
}

func FuzzAMF(f *testing.F) {
	f.Add(appendAMF(nil, "connect", 1.0, Object{"app": "live"}))
	f.Add(bytes.Repeat([]byte{markObject, 0, 1, 'a'}, 100))
	f.Add([]byte{markArray, 0xff, 0xff, 0xff, 0xff, markNull})
	f.Fuzz(func(t *testing.T, b []byte) {
		if v, err := readAMF(b); err == nil && len(v) > maxAMFFields {
			t.Fatal("too many values")
		}
	})
}

func FuzzChunks(f *testing.F) {
	var b bytes.Buffer
	w := chunkWriter{w: &b, size: 128}
	w.write(3, message{kind: msgCommand, payload: appendAMF(nil, "connect", 1.0)})
	w.write(6, message{kind: msgVideo, stream: 1, stamp: 0x2000000, payload: make([]byte, 400)})
	f.Add(b.Bytes())
	f.Add([]byte{3, 0, 0, 0, 0xff, 0xff, 0xff, 9, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		r := newChunkReader(bytes.NewReader(b))
		for {
			m, err := r.next()
			if err != nil {
				return
			}
			if len(m.payload) > maxMessage {
				t.Fatal("too long")
			}
		}
	})
}

func FuzzVideoTag(f *testing.F) {
	f.Add([]byte{0x17, 0, 0, 0, 0}, append([]byte{0x17, 1, 0, 0, 0, 0, 0, 0, 1}, 0x65))
	f.Add(append([]byte{0x17, 0, 0, 0, 0}, decoderConfig(sps, pps)...), []byte{0x27, 1, 0, 0, 0, 0xff, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, config, tag []byte) {
		s := &session{t: silent{}, key: "k", out: chunkWriter{w: io.Discard, size: 128}}
		s.take(message{kind: msgVideo, payload: config})
		s.take(message{kind: msgVideo, payload: tag})
	})
}

type silent struct{}

func (silent) App(string) bool            { return true }
func (silent) Begin(string, string) error { return nil }
func (silent) Frame(string, Frame)        {}
func (silent) End(string)                 {}

func TestAKeyInAnIngestAddressIsTold(t *testing.T) {
	for _, text := range []string{"rtmp://192.0.2.1/live/ab12cd34ef", "rtmp://192.0.2.1/live?key=1",
		"rtmp://192.0.2.1/a/b/0123456789abcdef0123"} {
		_, err := ParseIngest(text)
		assert.ErrorIs(t, err, ErrKeyInAddress, text)
	}
	for _, text := range []string{"rtmp://192.0.2.1/live", "rtmp://192.0.2.1:1936/live/stage", "rtmp://192.0.2.1/live2026a"} {
		_, err := ParseIngest(text)
		assert.NoError(t, err, text)
	}
}
