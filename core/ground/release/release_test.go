package release

import (
	"fmt"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestRunningKnowsItsVersion(t *testing.T) {
	b := Running()
	assert.Equal(t, Version, b.Version)
	assert.NotEmpty(t, b.Go)
	assert.Contains(t, b.Platform, "/")
}

func TestWhatTheToolchainLeavesInAProgramIsRead(t *testing.T) {
	var b Build
	b.read(&debug.BuildInfo{Settings: []debug.BuildSetting{{Key: "vcs.revision", Value: "3f2a9c1b7d5e4f60"},
		{Key: "vcs.time", Value: "2026-11-29T10:00:00Z"}, {Key: "vcs.modified", Value: "true"}}})
	assert.Equal(t, Build{Revision: "3f2a9c1b7d5e4f60", Made: time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC), Changed: true}, b)
}

func TestABuildIsWrittenInALine(t *testing.T) {
	made := time.Date(2026, 11, 29, 23, 30, 0, 0, time.FixedZone("", -3600))
	for want, b := range map[string]Build{
		"1.2.3":                              {Version: "1.2.3", Made: made},
		"1.2.3 (3f2a9c1b7d5e of 2026-11-30)": {Version: "1.2.3", Revision: "3f2a9c1b7d5e4f60", Made: made},
		"1.2.3 (3f2a, changed)":              {Version: "1.2.3", Revision: "3f2a", Changed: true},
		"1.2.3 (3f2a9c1b7d5e, changed of 2026-11-30)": {Version: "1.2.3", Revision: "3f2a9c1b7d5e4f60", Changed: true, Made: made},
	} {
		assert.Equal(t, want, b.String())
	}
}

func ExampleBuild_String() {
	fmt.Println(Build{Version: "0.1.0", Revision: "3f2a9c1b7d5e4f60", Made: time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)})
	// Output: 0.1.0 (3f2a9c1b7d5e of 2026-11-29)
}
