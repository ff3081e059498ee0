package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"unlatch/core/media"
	"unlatch/sim/scene"
)

// meter compares depacketising and measuring RTP with copying the same bytes once, on one core.
func meter(ctx context.Context, lib *scene.Library) ([]figure, error) {
	clip, err := lib.Clip(ctx, scene.Format{Scene: "viaduct", Caption: "bench", Width: 1280, Height: 720, FPS: 15, Kbps: 4000, GOP: 15,
		Profile: "main"})
	if err != nil {
		return nil, err
	}
	packets, size := packetise(clip)
	const rounds = 40
	var metered, copied []float64
	into := make([]byte, 2048)
	for range 7 {
		m := media.NewMeter(media.Track{Kind: "video", Payload: 96, Codec: "H264", ClockRate: 90000})
		at := time.Now()
		began := time.Now()
		for range rounds {
			for _, p := range packets {
				m.Packet(p, at)
			}
		}
		metered = append(metered, gbits(size*rounds, time.Since(began)))
		began = time.Now()
		for range rounds {
			for _, p := range packets {
				copy(into, p)
			}
		}
		copied = append(copied, gbits(size*rounds, time.Since(began)))
		if m.Measured().Keyframes == 0 {
			return nil, fmt.Errorf("the meter saw no key frame")
		}
	}
	got, floor := median(metered), median(copied)
	return []figure{{"Meter: RTP depacketised, parsed and measured, one core (it reads headers and copies no payload)",
		fmt.Sprintf("%.1f Gbit/s", got), fmt.Sprintf("%.1f Gbit/s copied", floor), fmt.Sprintf("%.2f", got/floor), "stated"}}, nil
}

func gbits(bytes int, d time.Duration) float64 { return float64(bytes) * 8 / d.Seconds() / 1e9 }

// packetise writes a clip as RTP packets of 1400 bytes.
func packetise(c *scene.Clip) (packets [][]byte, size int) {
	seq := uint16(0)
	for k, f := range c.Frames {
		for i, nal := range f.NALs {
			last := i == len(f.NALs)-1
			for first := true; len(nal) > 0; first = false {
				head, n := []byte(nil), min(len(nal), 1400)
				if !first || len(nal) > 1400 {
					if first {
						head = []byte{nal[0]&0xe0 | 28, nal[0]&0x1f | 0x80}
						nal, n = nal[1:], 1398
					} else {
						n = min(len(nal), 1398)
						head = []byte{f.NALs[i][0]&0xe0 | 28, f.NALs[i][0] & 0x1f}
					}
				}
				p := make([]byte, 12, 12+len(head)+n)
				p[0], p[1] = 0x80, 96
				if last && n == len(nal) {
					p[1] |= 0x80
				}
				binary.BigEndian.PutUint16(p[2:], seq)
				binary.BigEndian.PutUint32(p[4:], uint32(k*90000/c.FPS))
				seq++
				p = append(append(p, head...), nal[:n]...)
				packets, size, nal = append(packets, p), size+len(p), nal[n:]
			}
		}
	}
	return packets, size
}
