package bringup

import (
	"encoding/json"
	"flag"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/stream/sighting"
	"unlatch/sim/simtest"
)

var update = flag.Bool("update", false, "write the evidence of all stand-ins for the tests of package latch")

// standIns is one device of each maker, healthy, and one of each way in which a device may be stuck.
const standIns = `
name: stand-ins
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Corvane, maker: corvane, model: V4, serial: G1, address: 127.44.67.11, scene: platform-clock, streams: [&m {width: 320,
       height: 180, fps: 5, kbps: 150, gop: 5, audio: true}, &s {width: 160, height: 90, fps: 5, kbps: 80, gop: 5, profile: baseline}]}
  - {name: Lumenhythe, maker: lumenhythe, model: L2, serial: G2, address: 127.44.67.12, scene: footbridge, streams: [*m, *s]}
  - {name: Brackwell, maker: brackwell, model: B2, serial: G3, address: 127.44.67.13, scene: turntable, streams: [*s]}
  - {name: Holloway, kind: recorder, maker: holloway, model: H8, serial: G4, address: 127.44.67.14}
  - {name: Another sign-in, maker: corvane, model: V4, serial: G5, address: 127.44.67.15, scene: viaduct, streams: [*s],
       users: [{name: other, secret: nobody-knows, level: User}]}
  - {name: Fresh, maker: corvane, model: V4, serial: G6, address: 127.44.67.16, scene: viaduct, streams: [*s], users: []}
  - {name: Streams off, maker: corvane, model: V4, serial: G7, address: 127.44.67.17, scene: viaduct, streams: [*s],
       defects: {stream_closed: true}}
  - {name: Silent, maker: corvane, model: V4, serial: G8, address: 127.44.67.18, scene: viaduct, streams: [*s],
       defects: {stream_silent: true}}
  - {name: No more viewers, maker: corvane, model: V4, serial: G9, address: 127.44.67.19, scene: viaduct, streams: [*s],
       defects: {sessions: -1}}
  - {name: Encrypted, maker: corvane, model: V4, serial: G10, address: 127.44.67.20, scene: viaduct, streams: [*s],
       defects: {encrypts: true}}
  - {name: Datagrams, maker: corvane, model: V4, serial: G11, address: 127.44.67.21, scene: viaduct, streams: [*s],
       defects: {transport: udp}}
  - {name: Locked, maker: corvane, model: V4, serial: G12, address: 127.44.67.22, scene: viaduct, streams: [*s],
       defects: {locked_seconds: 600}}
`

// evidenceEpoch is when the golden evidence was seen.
var evidenceEpoch = time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)

// The evidence that work on each stand-in leaves is what package latch tests its conclusions on. Without -update only that each leaves the
// same kinds of it is looked at.
func TestEvidenceOfAllStandIns(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, standIns)
	out := map[string][]evidence.Record{}
	for i, name := range []string{"Corvane", "Lumenhythe", "Brackwell", "Holloway", "Another sign-in", "Fresh", "Streams off", "Silent",
		"No more viewers", "Encrypted", "Datagrams", "Locked"} {
		m := newMemory(t)
		m.at = evidenceEpoch
		m.key("Fitter", "fitter", "brass-lamp-41")
		addr := netip.AddrFrom4([4]byte{127, 44, 67, byte(11 + i)})
		kind := sighting.Camera
		if name == "Holloway" {
			kind = sighting.Recorder
		}
		d := m.heard(name, addr.String(), world.Device(name).Service(), kind)
		require.NoError(t, m.work(d, "127.44.67.0/24").Open(ctx), name)
		out[name] = m.records[d.ID]
	}
	file := filepath.Join("..", "..", "decide", "latch", "testdata", "standins.json")
	if *update {
		raw, err := json.MarshalIndent(out, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, append(raw, '\n'), 0o644))
	}
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	var golden map[string][]evidence.Record
	require.NoError(t, json.Unmarshal(raw, &golden))
	kinds := func(list []evidence.Record) string {
		var names []string
		for _, r := range list {
			names = append(names, strings.TrimSpace(string(r.Kind)+" "+r.Subject))
		}
		return strings.Join(names, ", ")
	}
	require.Len(t, golden, len(out))
	for name, list := range out {
		require.Equal(t, kinds(golden[name]), kinds(list), "%s: run with -update where this is meant", name)
	}
}
