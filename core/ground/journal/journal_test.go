package journal_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/journal"
)

func open(t *testing.T, path, secret string, most int64) (*journal.Journal, int64) {
	t.Helper()
	j, lost, err := journal.Open(path, []byte(secret), most)
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	return j, lost
}

func all(t *testing.T, j *journal.Journal) (out []string) {
	t.Helper()
	require.NoError(t, j.Each(func(raw []byte) error { out = append(out, string(raw)); return nil }))
	return out
}

func Example() {
	dir, _ := os.MkdirTemp("", "journal")
	defer os.RemoveAll(dir)
	j, _, _ := journal.Open(filepath.Join(dir, "away"), []byte("a secret"), 1<<20)
	defer j.Close()
	j.Append([]byte("the camera at the viaduct does not answer"))
	j.Each(func(raw []byte) error { fmt.Println(string(raw)); return nil })
	// Output: the camera at the viaduct does not answer
}

// Entries stay in order across a start, and the file tells nothing of them.
func TestEntriesAreKept(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "away")
	j, _ := open(t, path, "a", 1<<20)
	for _, x := range []string{"one", "two", "three"} {
		require.NoError(t, j.Append([]byte(x)))
	}
	assert.Equal(t, 3, j.Len())
	again, lost := open(t, path, "a", 1<<20)
	assert.Zero(t, lost)
	assert.Equal(t, []string{"one", "two", "three"}, all(t, again))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "three")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, again.Clear())
	require.NoError(t, again.Append([]byte("four")))
	assert.Equal(t, []string{"four"}, all(t, again))
}

// It grows no further than it may, and what it holds stays.
func TestAFullJournal(t *testing.T) {
	t.Parallel()
	j, _ := open(t, filepath.Join(t.TempDir(), "away"), "a", 4096)
	n := 0
	for ; ; n++ {
		if err := j.Append(bytes.Repeat([]byte("x"), 500)); err != nil {
			require.ErrorIs(t, err, journal.ErrFull)
			break
		}
	}
	assert.Equal(t, 7, n)
	require.NoError(t, j.Append([]byte("short")))
	assert.Len(t, all(t, j), 8)
	assert.ErrorIs(t, j.Append(make([]byte, journal.MostEntry+1)), journal.ErrFull)
}

// A file that was cut off or changed anywhere yields what was before that, and never something else; so does one of another key.
func TestAFileThatIsNotAsItWasWritten(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "away")
	j, _ := open(t, path, "a", 1<<20)
	want := []string{"one", "two", "three"}
	for _, x := range want {
		require.NoError(t, j.Append([]byte(x)))
	}
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	check := func(name string, raw []byte, secret string) {
		other := filepath.Join(dir, "other")
		require.NoError(t, os.WriteFile(other, raw, 0o600))
		j, _ := open(t, other, secret, 1<<20)
		got := all(t, j)
		assert.Less(t, len(got), len(want), name)
		assert.Equal(t, want[:len(got)], append([]string{}, got...), name)
		require.NoError(t, j.Append([]byte("more")), name)
		assert.Equal(t, "more", all(t, j)[len(got)], name)
	}
	for i := range whole {
		check(fmt.Sprint("cut off at ", i), whole[:i], "a")
		changed := bytes.Clone(whole)
		changed[i] ^= 1
		check(fmt.Sprint("changed at ", i), changed, "a")
	}
	check("another key", whole, "b")
	first := len(whole) - 2*4 - 2*(12+16) - len("two") - len("three")
	check("the first left out", whole[first:], "a")
}
