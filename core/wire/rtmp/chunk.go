package rtmp

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Message types (RTMP §5.4, §6.2, §7.1).
const (
	msgChunkSize  = 1
	msgAbort      = 2
	msgAck        = 3
	msgControl    = 4
	msgWindow     = 5
	msgBandwidth  = 6
	msgAudio      = 8
	msgVideo      = 9
	msgData       = 18
	msgCommand    = 20
	handshakeSize = 1536
)

// Limits on what a peer may send.
const (
	maxMessage   = 4 << 20
	maxChunkSize = 1 << 20
	maxStreams   = 16
)

// A message is one RTMP message.
type message struct {
	kind    byte
	stream  uint32
	stamp   uint32 // ms
	payload []byte
}

// A chunkReader puts messages together (§5.3). It is not safe for concurrent use.
type chunkReader struct {
	r       *bufio.Reader
	size    int
	streams map[uint32]*incoming
	read    uint32
}

// incoming is a message that is on its way on one chunk stream, and what the next header may leave out.
type incoming struct {
	message
	length   int
	delta    uint32
	extended bool
	begun    bool
}

func newChunkReader(r io.Reader) *chunkReader {
	return &chunkReader{r: bufio.NewReaderSize(r, 64<<10), size: 128, streams: map[uint32]*incoming{}}
}

func (c *chunkReader) bytes(n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := io.ReadFull(c.r, b)
	c.read += uint32(n)
	return b, err
}

var errChunk = errors.New("a chunk that cannot be (RTMP §5.3)")

// next returns the next whole message. Changes of the chunk size are applied and not returned.
func (c *chunkReader) next() (message, error) {
	for {
		m, done, err := c.chunk()
		if err != nil {
			return message{}, err
		}
		if !done {
			continue
		}
		if m.kind == msgChunkSize && len(m.payload) >= 4 {
			n := int(binary.BigEndian.Uint32(m.payload) & 0x7fffffff)
			if n < 1 || n > maxChunkSize {
				return message{}, fmt.Errorf("%w: a chunk size of %d", errChunk, n)
			}
			c.size = n
			continue
		}
		return m, nil
	}
}

// chunk reads one chunk, and reports whether it ends a message.
func (c *chunkReader) chunk() (message, bool, error) {
	head, err := c.bytes(1)
	if err != nil {
		return message{}, false, err
	}
	form, id := head[0]>>6, uint32(head[0]&0x3f)
	if id < 2 { // one or two bytes more (§5.3.1.1)
		more, err := c.bytes(int(id) + 1)
		if err != nil {
			return message{}, false, err
		}
		n := uint32(more[0]) + 64
		if id == 1 {
			n += uint32(more[1]) << 8
		}
		id = n
	}
	in := c.streams[id]
	if in == nil {
		if form != 0 || len(c.streams) >= maxStreams {
			return message{}, false, errChunk
		}
		in = &incoming{}
		c.streams[id] = in
	}
	if err := c.header(in, form); err != nil {
		return message{}, false, err
	}
	n := min(c.size, in.length-len(in.payload))
	part, err := c.bytes(n)
	if err != nil {
		return message{}, false, err
	}
	in.payload = append(in.payload, part...)
	if len(in.payload) < in.length {
		return message{}, false, nil
	}
	out := in.message
	in.payload, in.begun = nil, false
	return out, true, nil
}

// header reads a message header of one of the four forms (§5.3.1.2).
func (c *chunkReader) header(in *incoming, form byte) error {
	sizes := [4]int{11, 7, 3, 0}
	h, err := c.bytes(sizes[form])
	if err != nil {
		return err
	}
	if form < 3 {
		if in.begun {
			return fmt.Errorf("%w: a header in the middle of a message", errChunk)
		}
		in.delta = uint32(h[0])<<16 | uint32(h[1])<<8 | uint32(h[2])
		in.extended = in.delta == 0xffffff
	}
	if form < 2 {
		in.length = int(h[3])<<16 | int(h[4])<<8 | int(h[5])
		in.kind = h[6]
		if in.length > maxMessage {
			return fmt.Errorf("%w: a message of %d bytes", errChunk, in.length)
		}
	}
	if form == 0 {
		in.stream = binary.LittleEndian.Uint32(h[7:])
	}
	if in.extended {
		x, err := c.bytes(4)
		if err != nil {
			return err
		}
		if form < 3 {
			in.delta = binary.BigEndian.Uint32(x)
		}
	}
	if in.begun {
		return nil
	}
	in.begun = true
	if form == 0 {
		in.stamp = in.delta
		in.delta = 0
	} else {
		in.stamp += in.delta
	}
	return nil
}

// A chunkWriter sends messages in chunks, each with a whole header.
type chunkWriter struct {
	w    io.Writer
	size int
	buf  []byte
}

// write sends one message on a chunk stream.
func (c *chunkWriter) write(id byte, m message) error {
	b := append(c.buf[:0], id)
	stamp := min(m.stamp, 0xffffff)
	b = append(b, byte(stamp>>16), byte(stamp>>8), byte(stamp))
	n := len(m.payload)
	b = append(b, byte(n>>16), byte(n>>8), byte(n), m.kind)
	b = binary.LittleEndian.AppendUint32(b, m.stream)
	if stamp == 0xffffff {
		b = binary.BigEndian.AppendUint32(b, m.stamp)
	}
	for i := 0; ; {
		part := min(c.size, n-i)
		b = append(b, m.payload[i:i+part]...)
		if i += part; i >= n {
			break
		}
		b = append(b, 0xc0|id)
		if stamp == 0xffffff {
			b = binary.BigEndian.AppendUint32(b, m.stamp)
		}
	}
	c.buf = b
	_, err := c.w.Write(b)
	return err
}

func sortedKeys(o Object) []string {
	var out []string
	for k := range o {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
