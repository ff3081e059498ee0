package handover_test

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
	"unlatch/core/decide/outside"
	"unlatch/core/decide/siteplan"
	"unlatch/core/stream/sighting"
)

// What a pack has becomes intent: who the devices are, and where they are to be shown.
func TestTake(t *testing.T) {
	p := packtest.Sample(3)
	p.Cameras[2].Via, p.Cameras[2].Channel = packtest.ID("recorder"), 4
	taken, err := handover.Take(&p)
	require.NoError(t, err)
	assert.Empty(t, taken.Warnings)
	require.Len(t, taken.Devices, 4)
	last := taken.Devices[len(taken.Devices)-1]
	assert.Equal(t, p.Cameras[2].ID, last.ID, "a recorder comes before what hangs on it")
	assert.Equal(t, packtest.ID("recorder"), *last.InPack.Via)
	assert.Equal(t, sighting.Camera, taken.Devices[0].InPack.Kind)
	assert.Equal(t, "02:00:5e:00:00:00", taken.Devices[0].InPack.MAC)
	assert.Len(t, taken.Wishes, 3)
	assert.Len(t, taken.Plans, 1)
	require.Len(t, taken.SitePlans, 1)
	assert.Len(t, taken.SitePlans[0].Marks, 3)
}

// What of a pack cannot be used is left out with a warning, and nothing of it reaches what is kept.
func TestTakeLeavesOutWhatCannotBeUsed(t *testing.T) {
	for what, spoil := range map[string]func(*handover.Pack){
		"no address":        func(p *handover.Pack) { p.Cameras[0].Address = "behind the shed" },
		"twice":             func(p *handover.Pack) { p.Cameras[1].ID = p.Cameras[0].ID },
		"lost recorder":     func(p *handover.Pack) { p.Cameras[0].Via = uuid.New() },
		"a plan of nothing": func(p *handover.Pack) { p.Cameras[0].Plan = map[string]string{"main": "magic"} },
		"a plan of nobody":  func(p *handover.Pack) { p.Plans[0].Owner = "moon" },
		"a target that is a device which is not there": func(p *handover.Pack) {
			p.Targets[0].ID = uuid.New()
			p.Targets[0].Device = p.Targets[0].ID
		},
		"a gateway": func(p *handover.Pack) { p.Site.Gateway = "x" },
		"a pool":    func(p *handover.Pack) { p.Site.Pool = []string{"many"} },
		"ports that lead elsewhere": func(p *handover.Pack) {
			p.Outside.Form.Maps = []outside.Map{{Port: 20000, Inside: "203.0.113.9:80", Device: p.Cameras[0].ID}}
		},
	} {
		p := packtest.Sample(3)
		spoil(&p)
		taken, err := handover.Take(&p)
		require.NoError(t, err, what)
		assert.NotEmpty(t, taken.Warnings, what)
	}
	for what, spoil := range map[string]func(*handover.Pack){
		"no site":   func(p *handover.Pack) { p.Site.ID = uuid.Nil },
		"no name":   func(p *handover.Pack) { p.Site.Name = " \x00 " },
		"no ranges": func(p *handover.Pack) { p.Site.Ranges = []string{"everywhere"} },
		"too many":  func(p *handover.Pack) { p.Cameras = make([]handover.Camera, handover.MostCameras+1) },
	} {
		p := packtest.Sample(1)
		spoil(&p)
		if what == "no name" {
			p.Site.Name = " "
		}
		_, err := handover.Take(&p)
		assert.Error(t, err, what)
	}
}

// Names out of a pack are one clean line, marks lie within their picture, and roles are those that there are.
func TestTakeCleansWhatItTakes(t *testing.T) {
	p := packtest.Sample(2)
	p.Cameras[0].Name = "two\nlines\x1b[31m" + strings.Repeat("x", 500)
	p.Cameras[0].Roles = map[string]string{"p0": "sub", "p1": "emperor"}
	p.Cameras[0].Placements[0].Role = "emperor"
	p.SitePlans[0].Marks = append(p.SitePlans[0].Marks, siteplan.Mark{Device: p.Cameras[0].ID, X: 7}, siteplan.Mark{Device: uuid.New()})
	taken, err := handover.Take(&p)
	require.NoError(t, err)
	d := taken.Devices[0]
	assert.LessOrEqual(t, len(d.Name), 130)
	assert.NotContains(t, d.Name, "\n")
	assert.NotContains(t, d.Name, "\x1b")
	assert.Equal(t, map[string]string{"p0": "sub"}, d.Roles)
	assert.Empty(t, taken.Wishes[0].Role)
	assert.Len(t, taken.SitePlans[0].Marks, 2)
}

// A site is told against its pack: what was found, what is missing, what is more, and what is otherwise; what is not known is no
// difference.
func TestStand(t *testing.T) {
	pack, now := packtest.Sample(4), packtest.Sample(4)
	now.State.Devices[0].Facts[1].Value = "9.9"                 // another firmware
	now.State.Devices[1].Facts = now.State.Devices[1].Facts[:1] // its firmware is not known yet
	stranger := now.Cameras[0]
	stranger.ID, stranger.Title = uuid.New(), "Stranger"
	now.Cameras = append(now.Cameras, stranger)
	now.State.Devices = append(now.State.Devices, baseline.Device{ID: stranger.ID, Title: "Stranger"})
	unheard := now.Cameras[3].ID
	s := handover.Stand(&pack, &now, func(id uuid.UUID) bool { return id != unheard })
	require.Len(t, s.Different, 1)
	assert.Equal(t, "9.9", s.Different[0].Fields[0].Is)
	assert.Equal(t, 1, s.Unknown)
	require.Len(t, s.Missing, 1)
	assert.Equal(t, unheard, s.Missing[0].ID)
	require.Len(t, s.Surplus, 1)
	assert.Equal(t, "Stranger", s.Surplus[0].Title)
	assert.Contains(t, s.Same, now.Cameras[2].ID)
	now.Cameras = now.Cameras[1:]
	s = handover.Stand(&pack, &now, func(id uuid.UUID) bool { return id != unheard })
	assert.Len(t, s.Missing, 2, "somebody has taken it off the site")
}

func FuzzTake(f *testing.F) {
	p := packtest.Sample(2)
	raw, _ := p.Write()
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		p, err := handover.ReadPack(raw)
		if err != nil {
			return
		}
		taken, err := handover.Take(&p)
		if err != nil {
			return
		}
		for _, d := range taken.Devices {
			assert.True(t, d.InPack.Addr.IsValid())
			assert.NotContains(t, d.Name, "\n")
		}
	})
}
