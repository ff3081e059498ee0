package tuning

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseStream(t *testing.T) {
	for text, want := range map[string]Stream{
		"h264,1280x720,15fps,2000kbps,cbr,gop30": {Codec: "H.264", Width: 1280, Height: 720, FPS: 15, BitrateKbps: 2000, Control: "cbr",
			GOPFrames: 30},
		"HEVC, 2592 x 1944, 12.5 fps, 4 Mbit/s": {Codec: "H.265", Width: 2592, Height: 1944, FPS: 12.5, BitrateKbps: 4000},
		"jpeg,640x360":                          {Codec: "MJPEG", Width: 640, Height: 360},
		"mpeg4,advanced simple,gop2s,vbr,q4":    {Codec: "MPEG-4", Profile: "Advanced Simple", GOPSeconds: 2, Control: "vbr", Quality: 4},
		"off":                                   {Off: true},
		"keep":                                  {},
		"main,audio=none":                       {Profile: "Main", Audio: "none"},
	} {
		got, err := ParseStream(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		again, err := ParseStream(got.String())
		require.NoError(t, err, got.String())
		assert.Equal(t, want, again, "written and read again")
	}
	for _, text := range []string{"", "h264,", "h266", "1280", "0x720", "99999x720", "fps", "300fps", "0kbps", "gop0", "gop1.5",
		"gop99999", "q", "audio=", "h264;720p"} {
		_, err := ParseStream(text)
		assert.ErrorAs(t, err, new(*ParseError), text)
	}
}

func FuzzParseStream(f *testing.F) {
	f.Add("h264,1280x720,15fps,2000kbps,cbr,gop30")
	f.Add("gop2.5s,q1")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseStream(text)
		if err != nil {
			return
		}
		again, err := ParseStream(s.String())
		if err != nil || again != s {
			t.Fatalf("%q became %+v, and %q became %+v (%v)", text, s, s.String(), again, err)
		}
	})
}
