package fit

import (
	"cmp"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

var panel = intake.Intake{Name: "panel", Roles: []string{"sub"}, Codecs: []string{"H.264", "MJPEG"}, Profiles: []string{"Baseline", "Main"},
	Sizes: []tuning.Size{{Width: 320, Height: 180}, {Width: 640, Height: 360}, {Width: 640, Height: 480}}, FPS: intake.Range{Max: 10},
	TLS:      "no",
	Password: intake.Password{MaxLength: 8}}

func TestCheck(t *testing.T) {
	good := Stream{Role: "sub", Codec: "H.264", Profile: "Main", Width: 640, Height: 360, FPS: 10.1, Password: "short",
		Scheme: "digest MD5", Transport: "tcp"}
	assert.Empty(t, Check(good, panel))
	assert.Empty(t, Check(Stream{}, panel), "what is not known fits")
	for field, change := range map[string]func(*Stream){
		"role": func(s *Stream) { s.Role = "main" }, "codec": func(s *Stream) { s.Codec = "H.265" },
		"profile": func(s *Stream) { s.Profile = "High" },
		"size":    func(s *Stream) { s.Width = 642 }, "fps": func(s *Stream) { s.FPS = 15 }, "tls": func(s *Stream) { s.TLS = true },
		"password": func(s *Stream) { s.Password = "far-too-long" },
	} {
		s := good
		change(&s)
		got := Check(s, panel)
		require.Len(t, got, 1, field)
		assert.Equal(t, field, got[0].Field)
		assert.NotContains(t, got[0].String(), "far-too-long", "a password is never told")
	}
	desk := intake.Intake{Name: "desk", Schemes: []string{"digest"}, Transports: []string{"tcp"}, Ports: []int{554}, TLS: "yes",
		Audio: []string{"AAC", "none"}}
	var names []string
	for _, r := range Check(Stream{Scheme: "basic", Transport: "udp", Port: 8554, Audio: "Opus"}, desk) {
		names = append(names, r.Field)
	}
	assert.Equal(t, []string{"audio", "transport", "tls", "port", "scheme"}, names)
}

func TestNearest(t *testing.T) {
	has := Stream{Codec: "H.265", Profile: "Main", Width: 2592, Height: 1944, FPS: 25, Kbps: 6000, GOPSeconds: 10, Audio: "Opus"}
	plan, conflicts := Nearest(has, []intake.Intake{panel, {Name: "hub", MaxSize: tuning.Size{Width: 1280, Height: 720},
		GOPSeconds: intake.Range{Max: 2},
		Kbps:       intake.Range{Max: 1500}, Audio: []string{"AAC", "none"}}})
	assert.Empty(t, conflicts)
	assert.Equal(t, tuning.Stream{Codec: "H.264", Profile: "Main", Width: 640, Height: 480, FPS: 10, BitrateKbps: 1500, GOPSeconds: 2,
		Audio: "none"}, plan,
		"the shape is kept: 4:3")
	plan, conflicts = Nearest(has, []intake.Intake{{Name: "wide", MaxSize: tuning.Size{Width: 1280, Height: 720}}})
	assert.Empty(t, conflicts)
	assert.Equal(t, tuning.Stream{Width: 960, Height: 720}, plan)
	plan, conflicts = Nearest(has, nil)
	assert.Empty(t, conflicts)
	assert.Equal(t, tuning.Stream{}, plan, "nobody wants anything: all stays")
}

func TestConflictsAreTheSmallestSet(t *testing.T) {
	_, conflicts := Nearest(Stream{Codec: "H.264", FPS: 15}, []intake.Intake{
		{Name: "panel", FPS: intake.Range{Max: 10}}, {Name: "hub", FPS: intake.Range{Max: 20}}, {Name: "recorder",
			FPS: intake.Range{Min: 12}},
		{Name: "a", Codecs: []string{"H.264", "H.265"}}, {Name: "b", Codecs: []string{"H.265", "MJPEG"}}, {Name: "c",
			Codecs: []string{"H.264", "MJPEG"}},
	})
	require.Len(t, conflicts, 2)
	assert.Equal(t, "codec: a wants H.264 or H.265, b wants H.265 or MJPEG, c wants H.264 or MJPEG", conflicts[0].String(),
		"any two of them agree")
	assert.Equal(t, "fps: panel wants at most 10, recorder wants at least 12", conflicts[1].String())
}

var (
	someCodecs = []string{"H.264", "H.265", "MJPEG"}
	someSizes  = []tuning.Size{{Width: 160, Height: 90}, {Width: 320, Height: 180}, {Width: 320, Height: 240}, {Width: 640, Height: 360},
		{Width: 640, Height: 480}}
)

func subset[T any](r *rand.Rand, all []T) (out []T) {
	for _, x := range all {
		if r.IntN(2) == 0 {
			out = append(out, x)
		}
	}
	return out
}

func someIntake(r *rand.Rand, name string) intake.Intake {
	x := intake.Intake{Name: name, Codecs: subset(r, someCodecs)}
	if r.IntN(2) == 0 {
		x.Sizes = subset(r, someSizes)
	}
	if r.IntN(2) == 0 {
		x.MaxSize = someSizes[r.IntN(len(someSizes))]
	}
	if r.IntN(3) == 0 {
		x.MinSize = someSizes[r.IntN(len(someSizes))]
		if x.MaxSize.Width > 0 && (x.MinSize.Width > x.MaxSize.Width || x.MinSize.Height > x.MaxSize.Height) {
			x.MinSize = tuning.Size{}
		}
	}
	if r.IntN(2) == 0 {
		x.FPS = intake.Range{Min: float64(r.IntN(12)), Max: float64(12 + r.IntN(12))}
	}
	if r.IntN(2) == 0 {
		x.FPS = intake.Range{Max: float64(5 + r.IntN(12))}
	}
	if r.IntN(2) == 0 {
		x.Kbps = intake.Range{Min: float64(r.IntN(500)), Max: float64(500 + r.IntN(3000))}
	}
	return x
}

// applied returns the stream with the plan's settings.
func applied(s Stream, p tuning.Stream) Stream {
	s.Codec, s.Profile = cmp.Or(p.Codec, s.Codec), cmp.Or(p.Profile, s.Profile)
	s.Width, s.Height = cmp.Or(p.Width, s.Width), cmp.Or(p.Height, s.Height)
	s.FPS, s.Kbps = cmp.Or(p.FPS, s.FPS), cmp.Or(float64(p.BitrateKbps), s.Kbps)
	return s
}

// satisfiable looks through every value of a field that matters, by brute force.
func satisfiable(field string, all []intake.Intake) bool {
	fits := func(s Stream) bool {
		for _, x := range all {
			if len(Check(s, x)) > 0 {
				return false
			}
		}
		return true
	}
	switch field {
	case "codec":
		for _, c := range someCodecs {
			if fits(Stream{Codec: c}) {
				return true
			}
		}
	case "size":
		for w := 16; w <= 700; w += 2 {
			for _, h := range []int{16, 90, 180, 240, 360, 480, 500} {
				if fits(Stream{Width: w, Height: h}) {
					return true
				}
			}
		}
	case "fps":
		for v := 0.5; v < 30; v += 0.5 {
			if fits(Stream{FPS: v}) {
				return true
			}
		}
	case "bitrate_kbps":
		for v := 1.0; v < 4000; v++ {
			if fits(Stream{Kbps: v}) {
				return true
			}
		}
	}
	return false
}

// The nearest plan satisfies every intake, or names a true conflict: one that brute force finds no way out of, and of which no
// demand can be left out.
func TestNearestAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 3000 {
		var all []intake.Intake
		for i := range 1 + r.IntN(4) {
			all = append(all, someIntake(r, string(rune('a'+i))))
		}
		has := Stream{Codec: someCodecs[r.IntN(3)], Width: 640, Height: 360, FPS: float64(1 + r.IntN(30)), Kbps: float64(100 +
			r.IntN(5000))}
		plan, conflicts := Nearest(has, all)
		in := map[string]bool{}
		for _, c := range conflicts {
			in[c.Field] = true
			var of []intake.Intake
			for _, d := range c.Demands {
				for _, x := range all {
					if x.Name == d.Target {
						of = append(of, x)
					}
				}
			}
			require.NotEmpty(t, of, "%+v", c)
			if c.Field == "fps" || c.Field == "bitrate_kbps" {
				for i := range of { // the hair of measuring error is none of the conflict's
					of[i] = intake.Intake{FPS: of[i].FPS, Kbps: of[i].Kbps}
				}
			}
			if c.Field == "codec" || c.Field == "size" {
				require.False(t, satisfiable(c.Field, of), "%s of %+v", c, all)
			}
			for i := range of {
				rest := append(append([]intake.Intake{}, of[:i]...), of[i+1:]...)
				require.True(t, satisfiable(c.Field, rest), "%s is not the smallest set", c)
			}
		}
		for _, x := range all {
			for _, reason := range Check(applied(has, plan), x) {
				require.True(t, in[reason.Field], "%s with %+v of %+v", reason, plan, all)
			}
		}
	}
}

func BenchmarkNearest(b *testing.B) {
	r := rand.New(rand.NewPCG(7, 7))
	var all []intake.Intake
	for range 6 {
		all = append(all, someIntake(r, "x"))
	}
	for b.Loop() {
		Nearest(Stream{Codec: "H.264", Width: 2592, Height: 1944, FPS: 25, Kbps: 4000}, all)
	}
}
