package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"sync"
	"time"

	"unlatch/core/stream/media"
	"unlatch/sim"
	"unlatch/sim/scene"
)

// meter compares depacketising and measuring RTP of each codec with copying the same bytes once, on one core.
func meter(ctx context.Context, lib *scene.Library) ([]figure, error) {
	var out []figure
	h264 := 0.0
	for _, c := range []struct {
		codec  scene.Codec
		track  media.Track
		name   string
		wanted string
	}{
		{scene.H264, media.Track{Payload: 96, Codec: "H264"}, "H.264", "stated"},
		{scene.H265, media.Track{Payload: 96, Codec: "H265"}, "H.265", "at least 0.8 of H.264"},
		{scene.JPEG, media.Track{Payload: 26, Codec: "JPEG"}, "JPEG", "over 1/4 of a copy"},
		{scene.MPEG4, media.Track{Payload: 96, Codec: "MP4V-ES"}, "MPEG-4", "stated"},
	} {
		clip, err := lib.Clip(ctx, scene.Format{Scene: "viaduct", Caption: "bench", Width: 1280, Height: 720, FPS: 15, Kbps: 4000, GOP: 15,
			Profile: "main", Codec: c.codec})
		if err != nil {
			return nil, err
		}
		c.track.Kind, c.track.ClockRate = "video", 90000
		got, floor, err := meterOne(clip, c.track)
		if err != nil {
			return nil, err
		}
		if c.codec == scene.H264 {
			h264 = got
		}
		ratio := fmt.Sprintf("%.2f", got/floor)
		if c.codec == scene.H265 {
			ratio += fmt.Sprintf(" (%.2f of H.264)", got/h264)
		}
		out = append(out, figure{"Meter: RTP of " + c.name + " depacketised, parsed and measured, one core", fmt.Sprintf("%.1f Gbit/s",
			got),
			fmt.Sprintf("%.1f Gbit/s copied", floor), ratio, c.wanted})
	}
	stills, err := decoding(ctx, lib)
	return append(out, stills), err
}

// meterOne measures one clip, sent again and again with sequence numbers and time stamps that go on.
func meterOne(clip *scene.Clip, track media.Track) (got, floor float64, err error) {
	packets := sim.Packets(clip)
	size := 0
	for _, p := range packets {
		size += len(p)
	}
	const rounds = 40
	var metered, copied []float64
	into := make([]byte, 2048)
	for range 7 {
		m := media.NewMeter(track)
		at, seq, stamp := time.Now(), uint16(0), uint32(0)
		began := time.Now()
		for range rounds {
			last := uint32(0)
			for _, p := range packets {
				own := binary.BigEndian.Uint32(p[4:]) % (4 * 90000)
				if own < last {
					last = 0
				}
				stamp, last = stamp+own-last, own
				binary.BigEndian.PutUint16(p[2:], seq)
				binary.BigEndian.PutUint32(p[4:], stamp)
				m.Packet(p, at)
				binary.BigEndian.PutUint32(p[4:], own)
				seq++
			}
			stamp += 6000
		}
		metered = append(metered, gbits(size*rounds, time.Since(began)))
		began = time.Now()
		for range rounds {
			for _, p := range packets {
				copy(into, p)
			}
		}
		copied = append(copied, gbits(size*rounds, time.Since(began)))
		if m.Measured().Keyframes == 0 || m.Measured().Lost > 0 {
			return 0, 0, fmt.Errorf("the meter saw %+v", m.Measured())
		}
	}
	return median(metered), median(copied), nil
}

func gbits(bytes int, d time.Duration) float64 { return float64(bytes) * 8 / d.Seconds() / 1e9 }

// decoding decodes 200 key frames of 720p that come at once, against one decoder started for each alone.
func decoding(ctx context.Context, lib *scene.Library) (figure, error) {
	clip, err := lib.Clip(ctx, scene.Format{Scene: "viaduct", Caption: "bench", Width: 1280, Height: 720, FPS: 15, Kbps: 4000, GOP: 15,
		Profile: "main",
		Codec:   scene.H264})
	if err != nil {
		return figure{}, err
	}
	m := media.NewMeter(media.Track{Kind: "video", Payload: 96, Codec: "H264", ClockRate: 90000})
	for _, p := range sim.Packets(clip) {
		m.Packet(p, time.Now())
	}
	key := m.Keyframe()
	if key == nil {
		return figure{}, fmt.Errorf("the clip has no key frame")
	}
	began := time.Now()
	for range 10 {
		if _, err := media.Still(ctx, *key); err != nil {
			return figure{}, err
		}
	}
	alone := time.Since(began) / 10
	const n = 200
	var all sync.WaitGroup
	failed := make(chan error, n)
	began = time.Now()
	for range n {
		all.Go(func() {
			if _, err := media.Still(ctx, *key); err != nil {
				failed <- err
			}
		})
	}
	all.Wait()
	each := time.Since(began) / n
	select {
	case err := <-failed:
		return figure{}, err
	default:
	}
	return figure{"Stills: 200 key frames of 720p decoded at once, each", ms(each), ms(alone) + " for one alone", fmt.Sprintf("%.2f",
		each.Seconds()/alone.Seconds()),
		"stated"}, nil
}
