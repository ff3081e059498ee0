package pairing

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAChallengeIsAnsweredByItsKeyAlone(t *testing.T) {
	t.Parallel()
	k, other := NewKey(), NewKey()
	server, worker := Nonce(), Nonce()
	answer := k.Sign(server, worker, "site worker")
	assert.True(t, k.Public().Verify(server, worker, "site worker", answer))
	assert.False(t, other.Public().Verify(server, worker, "site worker", answer))
	assert.False(t, k.Public().Verify(Nonce(), worker, "site worker", answer), "an old answer")
	assert.False(t, k.Public().Verify(server, Nonce(), "site worker", answer))
	assert.False(t, k.Public().Verify(server, worker, "another", answer))
	assert.False(t, k.Public().Verify(worker, server, "site worker", answer))
	for _, bad := range [][]byte{nil, answer[:63], append(answer, 0)} {
		assert.False(t, k.Public().Verify(server, worker, "site worker", bad))
	}
	assert.False(t, Public(nil).Verify(server, worker, "site worker", answer))
	assert.NotEqual(t, k.Public().Name(), other.Public().Name())
}

func TestCodes(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for range 1000 {
		code := NewCode()
		require.Regexp(t, `^[A-HJ-NP-Z2-9]{4}-[A-HJ-NP-Z2-9]{4}$`, code)
		seen[code] = true
		for _, typed := range []string{code, strings.ToLower(code), strings.ReplaceAll(code, "-", ""), " " + code[:4] + " " + code[5:] + " "} {
			got, ok := ReadCode(typed)
			assert.True(t, ok, typed)
			assert.Equal(t, code, got)
		}
	}
	assert.Greater(t, len(seen), 998)
	for _, bad := range []string{"", "AAAA", "AAAA-AAA1", "AAAA-AAAO", "AAAA-AAAAA", "ÄAAA-AAAA"} {
		_, ok := ReadCode(bad)
		assert.False(t, ok, bad)
	}
}

func TestAnIdentityIsKept(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "identity.json")
	_, err := ReadIdentity(path)
	require.ErrorIs(t, err, ErrNotPaired)
	i := NewIdentity("https://bench.example", "")
	i.Worker = "w1"
	require.NoError(t, i.Write(path))
	back, err := ReadIdentity(path)
	require.NoError(t, err)
	assert.Equal(t, i, back)
	assert.Equal(t, i.Key().Public(), back.Key().Public())
	require.NoError(t, os.Chmod(path, 0o644))
	var exposed *ExposedError
	_, err = ReadIdentity(path)
	require.ErrorAs(t, err, &exposed)
	assert.Contains(t, err.Error(), "chmod 600")
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, os.WriteFile(path, []byte(`{"seed": "AAAA"}`), 0o600))
	_, err = ReadIdentity(path)
	assert.ErrorContains(t, err, "pair the machine anew")
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), ".identity-*"))
	assert.Empty(t, left)
}

func ExampleReadCode() {
	fmt.Println(ReadCode("k7qm 2p4x"))
	// Output: K7QM-2P4X true
}
