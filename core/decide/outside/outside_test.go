package outside

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
)

var (
	site   = address.MustParse("192.0.2.0/24")
	clock  = uuid.MustParse("01900000-0000-7000-8000-000000000001")
	bridge = uuid.MustParse("01900000-0000-7000-8000-000000000002")
)

func stream(device uuid.UUID, role, url, scheme string) Stream {
	return Stream{Device: device, Name: "Clock", Role: role, URL: url, Proven: true, Scheme: scheme}
}

func TestPortsArePlannedFromAPool(t *testing.T) {
	f := Form{Addresses: []string{"203.0.113.7"}, Pool: "20000-20001", Maps: []Map{{20001, "192.0.2.8:554", bridge}}}
	maps, refused := f.Plan([]Stream{
		stream(clock, "main", "rtsp://192.0.2.7/main", "digest MD5"), stream(clock, "sub", "rtsp://192.0.2.7/sub", "digest MD5"),
		stream(bridge, "main", "rtsp://192.0.2.8/main", "digest SHA-256"),
		stream(clock, "third", "rtsp://192.0.2.9/main", "digest MD5"),
	})
	assert.Equal(t, []Map{{20000, "192.0.2.7:554", clock}, {20001, "192.0.2.8:554", bridge}}, maps,
		"both streams of a camera go through one port, and one that has a port keeps it")
	require.Len(t, refused, 1)
	assert.Contains(t, refused[0].Why, "no port left")
	f.Maps = maps
	got, ok := f.URL("rtsp://192.0.2.7/main?x=1")
	assert.True(t, ok)
	assert.Equal(t, "rtsp://203.0.113.7:20000/main?x=1", got)
	for _, none := range []string{"rtsp://192.0.2.9/main", "rtsp://192.0.2.7:8554/main", "http://192.0.2.7/a", "nothing"} {
		_, ok := f.URL(none)
		assert.False(t, ok, none)
	}
}

func TestWhatIsNeverLedOutside(t *testing.T) {
	f := Form{Pool: "20000-20099"}
	tls := stream(clock, "main", "rtsps://192.0.2.7/main", "basic")
	tls.TLS = true
	unproven := stream(clock, "main", "rtsp://192.0.2.7/main", "digest MD5")
	unproven.Proven = false
	for says, s := range map[string]Stream{
		"no sign-in":       stream(clock, "main", "rtsp://192.0.2.7/main", "none"),
		"basic":            stream(clock, "main", "rtsp://192.0.2.7/main", "basic"),
		"web side":         stream(clock, "main", "http://192.0.2.7/a.mjpg", "digest MD5"),
		"sent to a group":  stream(clock, "main", "udp://@239.1.2.4:20000", "none"),
		"not proven":       unproven,
		"names no address": stream(clock, "main", "rtsp://camera/main", "digest MD5"),
		"":                 tls,
	} {
		maps, refused := f.Plan([]Stream{s})
		if says == "" {
			assert.Len(t, maps, 1, "over TLS the password is not read on the way")
			continue
		}
		assert.Empty(t, maps, says)
		require.Len(t, refused, 1, says)
		assert.Contains(t, refused[0].Why, says)
		assert.NotEmpty(t, refused[0].Fix)
	}
}

func TestWhatIsWrongWithAForm(t *testing.T) {
	good := Form{Addresses: []string{"203.0.113.7", "cameras.example.org"}, Pool: "20000-20099", Maps: []Map{{20000, "192.0.2.7:554", clock}}}
	assert.Empty(t, good.Check(site, nil))
	assert.Empty(t, Form{}.Check(site, nil), "a site that is not seen from outside")
	for says, change := range map[string]func(*Form){
		"used twice":                  func(f *Form) { f.Maps = append(f.Maps, Map{20000, "192.0.2.8:554", bridge}) },
		"both lead to":                func(f *Form) { f.Maps = append(f.Maps, Map{20001, "192.0.2.7:554", clock}) },
		"is inside":                   func(f *Form) { f.Addresses = []string{"192.0.2.1"} },
		"neither an address nor a":    func(f *Form) { f.Addresses = []string{"my router"} },
		"no range of ports":           func(f *Form) { f.Pool = "many" },
		"goes from 1024":              func(f *Form) { f.Pool = "80-90" },
		"not of the pool":             func(f *Form) { f.Maps[0].Port = 30000 },
		"no address with a port":      func(f *Form) { f.Maps[0].Inside = "camera" },
		"outside the site's ranges":   func(f *Form) { f.Maps[0].Inside = "198.51.100.7:554" },
		"the device service of Clock": func(f *Form) { f.Maps[0].Inside = "192.0.2.7:80" },
	} {
		f := good
		f.Maps = append([]Map(nil), good.Maps...)
		change(&f)
		got := f.Check(site, map[string]string{"192.0.2.7:80": "the device service of Clock"})
		require.NotEmpty(t, got, says)
		assert.Contains(t, got[0].Problem, says)
	}
}

func TestTheSheetForWhoRunsTheRouter(t *testing.T) {
	f := Form{Addresses: []string{"203.0.113.7"}, Pool: "20000-20099", Maps: []Map{{20000, "192.0.2.7:554", clock}}}
	got := f.Sheet(Paper{Site: "Tarn\nFerry", By: "Ada", At: time.Date(2026, 3, 14, 9, 26, 0, 0, time.UTC),
		Names: map[string]string{clock.String(): "Clock"}, Never: []string{"192.0.2.7:80, the device service of Clock"}})
	assert.Contains(t, got, "Ports to lead inside, Tarn Ferry\n")
	assert.Regexp(t, `20000 +TCP +192\.0\.2\.7:554 +Clock`, got)
	assert.Contains(t, got, "Never lead these outside:\n- 192.0.2.7:80, the device service of Clock")
	assert.Contains(t, Form{}.Sheet(Paper{}), "nothing to set")
}
