package latch

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
)

var update = flag.Bool("update", false, "write what is concluded of the stand-ins")

// conclusion returns what Derive says of a device, for people to read and compare.
func conclusion(name string, s Status) string {
	var b strings.Builder
	next := s.Next()
	fmt.Fprintf(&b, "%s: %s\n  next: %s (%s)\n", name, marks(s), next.Action, next.Reason)
	for _, g := range s.Grid() {
		fmt.Fprintf(&b, "  %s: %s %s %s %s\n", g.Service, g.State, g.SignIn, g.Level, g.Scheme)
	}
	for _, st := range s.Streams {
		fmt.Fprintf(&b, "  %s %s: proven %t\n", st.Role, st.Token, s.Proves(st))
	}
	return b.String()
}

// What is concluded of each stand-in, from evidence that work on it has left (see TestEvidenceOfAllStandIns in package bringup).
func TestConclusionsOfAllStandIns(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("testdata", "standins.json"))
	require.NoError(t, err)
	var all map[string][]evidence.Record
	require.NoError(t, json.Unmarshal(raw, &all))
	var names []string
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	var out strings.Builder
	for _, name := range names {
		got := Derive(all[name], Intent{})
		assert.Empty(t, got.Unreadable, name)
		out.WriteString(conclusion(name, got))
		backwards := slices.Clone(all[name])
		slices.Reverse(backwards)
		assert.Equal(t, got, Derive(backwards, Intent{}), "%s: the order in which records are read is nothing", name)
	}
	file := filepath.Join("testdata", "standins.txt")
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), out.String(), "run with -update where this is meant")
}
