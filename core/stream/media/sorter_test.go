package media

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sorted returns what a sorter makes of numbers as they arrive, a frame's time apart each, and where packets are missing.
func sorted(s *sorter, ticks uint32, numbers ...uint16) (out []uint16, gaps int) {
	for _, n := range numbers {
		b := rtpPacket(n, uint32(n)*ticks, true)
		p, _ := parseRTP(b)
		if s.straight(n) {
			out = append(out, n)
			continue
		}
		s.insert(b, p, time.Time{})
		for x, gap, ok := s.take(); ok; x, gap, ok = s.take() {
			read, _ := parseRTP(x.b)
			if read.seq != x.seq {
				panic("the bytes are those of another packet")
			}
			out = append(out, x.seq)
			gaps += gap
		}
	}
	return out, gaps
}

func TestASorterBringsPacketsIntoOrder(t *testing.T) {
	for name, c := range map[string]struct {
		came, want []uint16
		gaps       int
	}{
		"in order":              {[]uint16{7, 8, 9}, []uint16{7, 8, 9}, 0},
		"two changed":           {[]uint16{7, 9, 8, 10}, []uint16{7, 8, 9, 10}, 0},
		"across the end":        {[]uint16{65534, 0, 65535, 1}, []uint16{65534, 65535, 0, 1}, 0},
		"one much too late":     {[]uint16{1, 3, 4, 5, 6, 7, 8, 9, 10, 2, 11}, []uint16{1, 3, 4, 5, 6, 7, 8, 9, 10, 11}, 1},
		"the same twice":        {[]uint16{1, 1, 3, 3, 2, 2, 4}, []uint16{1, 2, 3, 4}, 0},
		"a long gap":            {[]uint16{1, 3, 200, 201}, []uint16{1, 3, 200, 201}, 197},
		"turned round":          {[]uint16{1, 5, 4, 3, 2, 6}, []uint16{1, 2, 3, 4, 5, 6}, 0},
		"one from elsewhere":    {[]uint16{5000, 5001, 7, 5002}, []uint16{5000, 5001, 5002}, 0},
		"nought from elsewhere": {[]uint16{5000, 0, 5001}, []uint16{5000, 5001}, 0},
		"a sender that is new":  {[]uint16{5000, 5001, 7, 8, 9}, []uint16{5000, 5001, 8, 9}, 0},
	} {
		got, gaps := sorted(&sorter{}, 10, c.came...)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.gaps, gaps, name)
	}
}

// In a slow stream what is missing is given up after a tenth of a second, and not after eight more frames.
func TestASorterDoesNotHoldUpASlowStream(t *testing.T) {
	got, gaps := sorted(&sorter{}, 18000, 1, 3, 4)
	assert.Equal(t, []uint16{1, 3, 4}, got)
	assert.Equal(t, 1, gaps)
}

// Whatever the order within a few packets, and whatever is lost: what comes out is in order, whole and once.
func TestASorterInAnyOrder(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		var numbers []uint16
		begin := uint16(random.IntN(1 << 16))
		for i := range 300 {
			if i == 0 || random.IntN(20) > 0 {
				numbers = append(numbers, begin+uint16(i))
			}
		}
		for i := 1; i+3 < len(numbers); i += 3 {
			random.Shuffle(3, func(a, b int) { numbers[i+a], numbers[i+b] = numbers[i+b], numbers[i+a] })
		}
		for i := range uint16(9) { // so many that nothing is held any more
			numbers = append(numbers, begin+300+i)
		}
		got, gaps := sorted(&sorter{}, 90, numbers...)
		for i := 1; i < len(got); i++ {
			require.Positive(t, int16(got[i]-got[i-1]))
		}
		assert.Equal(t, len(numbers), len(got))
		assert.Equal(t, 309-len(got), gaps)
	}
}

// Frames whose packets were changed about on the way are whole.
func TestFramesOfPacketsOutOfOrder(t *testing.T) {
	a, _ := NewAssembler(Track{Payload: 96, Codec: "H264"})
	m := NewMeter(Track{Kind: "video", Payload: 96, Codec: "H264", ClockRate: 90000})
	sps := []byte{0x67, 0x42, 0xc0, 0x1e, 0xd9, 0x00, 0xa0, 0x47, 0xfe, 0xc8}
	packets := [][]byte{rtpPacket(1, 3000, false, sps...), rtpPacket(2, 3000, false, 0x68, 0xce, 0x38, 0x80),
		rtpPacket(3, 3000, true, 0x65, 0x88, 4, 5)}
	for i := range uint16(20) {
		stamp := 6000 + 3000*uint32(i)
		packets = append(packets, rtpPacket(4+2*i, stamp, false, 0x41, 0x9a, 1), rtpPacket(5+2*i, stamp, true, 0x41, 0x1a, 2))
	}
	for i := 4; i+1 < len(packets); i += 4 { // the end of a frame changes places with the beginning of the next
		packets[i], packets[i+1] = packets[i+1], packets[i]
	}
	frames, at := 0, time.Unix(1000, 0)
	for i, p := range packets {
		a.Packet(p, func(Frame, uint32) { frames++ })
		m.Packet(p, at.Add(time.Duration(i)*10*time.Millisecond))
	}
	assert.Equal(t, 21, frames)
	got := m.Measured()
	require.NotNil(t, got)
	assert.Equal(t, []int{21, 0, 10}, []int{got.Frames, got.Lost, got.Reordered})
}
