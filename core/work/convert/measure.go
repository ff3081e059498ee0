package convert

import (
	"bytes"
	"context"
	"errors"
	"os/exec"
	"strconv"
	"time"

	"unlatch/core/stream/conversion"
)

// What is converted to measure a machine: two seconds of a moving picture.
const (
	trialWidth  = 640
	trialHeight = 360
	trialFrames = 50
	trialBy     = 30 * time.Second // for one step
	mostTrial   = 32 << 20         // bytes that one step may write
)

// trialPixels are the megapixels of the trial.
const trialPixels = float64(trialWidth*trialHeight*trialFrames) / 1e6

// candidates are the encoders that are tried, by codec, the cheapest first: those in hardware are there where the machine has them, and
// ffmpeg can use them. Those that want a device file to be named are not tried.
var candidates = map[string][]string{
	"H.264": {"h264_nvenc", "h264_qsv", "h264_v4l2m2m", "libx264"},
	"H.265": {"hevc_nvenc", "hevc_qsv", "hevc_v4l2m2m", "libx265"},
	"MJPEG": {"mjpeg"},
}

// rawForms are the forms in which the trial's encoded streams are written and read.
var rawForms = map[string]string{"H.264": "h264", "H.265": "hevc", "MJPEG": "mjpeg"}

// Measure converts a picture in every way and returns what that costs on this machine, in processor time. It takes some seconds. What
// ffmpeg cannot do here is left out; without ffmpeg the error is ErrNoFFmpeg.
func Measure(ctx context.Context) (conversion.Rates, error) {
	r := conversion.Rates{Decode: map[string]float64{}, Encode: map[string]float64{}, Encoders: map[string]string{}}
	source := []string{"-f", "lavfi", "-i", "testsrc2=s=" + strconv.Itoa(trialWidth) + "x" + strconv.Itoa(trialHeight) + ":r=25"}
	frames := []string{"-frames:v", strconv.Itoa(trialFrames)}
	drawn, _, err := trial(ctx, nil, source, frames, []string{"-f", "null", "-"})
	if err != nil {
		return r, err
	}
	for codec, list := range candidates {
		for _, encoder := range list {
			out := (&underway{form: conversion.Shape{Codec: codec}}).encoding(conversion.Source{Codec: codec, Width: trialWidth,
				Height: trialHeight}, encoder)
			cores, made, err := trial(ctx, nil, source, frames, out, []string{"-f", rawForms[codec], "pipe:1"})
			if err != nil || len(made) == 0 {
				continue
			}
			r.Encoders[codec], r.Encode[codec] = encoder, max(cores-drawn, 1e-3)/trialPixels
			if cores, _, err := trial(ctx, made, []string{"-f", rawForms[codec], "-i", "pipe:0"}, []string{"-f", "null", "-"}); err == nil {
				r.Decode[codec] = max(cores, 1e-3) / trialPixels
			}
			break
		}
	}
	if r.Decode["H.264"] > 0 { // rarely met, and decoded with less
		r.Decode["MPEG-4"] = r.Decode["H.264"]
	}
	sound, _, err := trial(ctx, nil, []string{"-f", "lavfi", "-i", "sine=r=8000:d=20"},
		[]string{"-c:a", "aac", "-b:a", "48k", "-f", "adts", "pipe:1"})
	if err == nil {
		r.Sound = sound / 20
	}
	return r, ctx.Err()
}

// trial runs ffmpeg and returns the seconds of processor time that it took, and what it has written.
func trial(ctx context.Context, in []byte, args ...[]string) (seconds float64, made []byte, err error) {
	ctx, done := context.WithTimeout(ctx, trialBy)
	defer done()
	all := []string{"-v", "error", "-threads", "2"}
	for _, a := range args {
		all = append(all, a...)
	}
	cmd := exec.CommandContext(ctx, "ffmpeg", all...)
	var out limited
	cmd.Stdin, cmd.Stdout = bytes.NewReader(in), &out
	cmd.WaitDelay = time.Second
	if err := cmd.Run(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			err = ErrNoFFmpeg
		}
		return 0, nil, err
	}
	return (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds(), out.b, nil
}

// limited keeps what is written, up to a bound.
type limited struct{ b []byte }

func (l *limited) Write(b []byte) (int, error) {
	if len(l.b)+len(b) > mostTrial {
		return 0, errors.New("more was written than is kept")
	}
	l.b = append(l.b, b...)
	return len(b), nil
}
