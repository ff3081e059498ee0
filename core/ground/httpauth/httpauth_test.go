package httpauth

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The example of RFC 2617 §3.5 for MD5; the same figures under SHA-256, computed apart from this code.
func TestDigestMatchesTheStandardsExample(t *testing.T) {
	for algorithm, want := range map[string]string{
		"MD5":     "6629fae49393a05397450978507c4ef1",
		"SHA-256": "5abdd07184ba512a22c53f41470e5eea7dcaa3a93a59b630c13dfe0a5dc6e38b",
	} {
		d := digest{algorithm: algorithm, user: "Mufasa", realm: "testrealm@host.com", secret: "Circle Of Life",
			nonce: "dcd98b7102dd2f0e8b11d0f600bfb0c093", method: "GET", uri: "/dir/index.html",
			cnonce: "0a4f113b", nc: "00000001", qop: "auth"}
		assert.Equal(t, want, d.response(), algorithm)
	}
}

func TestParseChallenges(t *testing.T) {
	got := ParseChallenges([]string{
		`Digest realm="Tarn, \"Ferry\"", nonce="a=b,c", qop="auth,auth-int", algorithm=SHA-256, Basic realm="x"`,
		`Digest realm=bare, nonce="n", stale=TRUE`,
		`Negotiate`,
	})
	require.Len(t, got, 4)
	assert.Equal(t, `Tarn, "Ferry"`, got[0].Realm())
	assert.Equal(t, "a=b,c", got[0].Params["nonce"])
	assert.Equal(t, "digest SHA-256", got[0].Name())
	assert.Equal(t, "basic", got[1].Scheme)
	assert.Equal(t, "bare", got[2].Realm())
	assert.True(t, got[2].Stale())
	assert.Equal(t, "negotiate", got[3].Scheme)
}

func TestChoosePrefersTheStrongest(t *testing.T) {
	best, err := Choose(ParseChallenges([]string{`Basic realm="a"`, `Digest realm="a", nonce="1"`,
		`Digest realm="a", nonce="1", algorithm=SHA-256`}))
	require.NoError(t, err)
	assert.Equal(t, "digest SHA-256", best.Name())
	_, err = Choose(ParseChallenges([]string{`Negotiate`, `Digest realm="a", algorithm=SHA-512-256`}))
	var unknown *UnknownSchemeError
	require.ErrorAs(t, err, &unknown)
	assert.Equal(t, []string{"negotiate", "digest SHA-512-256"}, unknown.Offered)
	_, err = Choose(nil)
	assert.ErrorContains(t, err, "no WWW-Authenticate")
}

func TestHostileLinesAreBounded(t *testing.T) {
	for _, line := range []string{
		strings.Repeat("a", 1<<20),
		`Digest realm="never closed`,
		`Digest =`, `=`, `"`, `,,,,`, `Digest realm`, "Digest realm=\x00", `Digest a="\`,
	} {
		assert.NotPanics(t, func() { ParseChallenges([]string{line}) })
	}
	_, err := Choose(ParseChallenges([]string{`Digest realm="a", nonce="` + strings.Repeat("n", 7900) + `"`}))
	var long *UnknownSchemeError
	require.ErrorAs(t, err, &long)
	assert.True(t, long.TooLong, "it is told from a device that offers nothing")
	assert.ErrorContains(t, err, "over 4 kB")
	many := ParseChallenges([]string{"Digest " + strings.Repeat("a=b, ", 500)})
	require.Len(t, many, 1)
	assert.LessOrEqual(t, len(many[0].Params), maxParams)
}

func TestBothSidesAgree(t *testing.T) {
	users := func(u string) (string, bool) { return "tarn:water", u == "steward" }
	for _, line := range []string{
		`Digest realm="r", nonce="n1", qop="auth", algorithm=SHA-256, opaque=""`,
		`Digest realm="r", nonce="n1"`,
		`Digest realm="r", nonce="n1", algorithm=MD5-sess, qop="auth"`,
		`Basic realm="r"`,
	} {
		c := ParseChallenges([]string{line})[0]
		a := NewAnswer(c, "steward", "tarn:water")
		for range 2 {
			user, ok := Check(a.Header("DESCRIBE", "rtsp://h/p"), c, "DESCRIBE", users)
			assert.True(t, ok, line)
			assert.Equal(t, "steward", user)
		}
		_, ok := Check(NewAnswer(c, "steward", "wrong").Header("DESCRIBE", "rtsp://h/p"), c, "DESCRIBE", users)
		assert.False(t, ok, line)
		_, ok = Check(NewAnswer(c, "stranger", "tarn:water").Header("DESCRIBE", "rtsp://h/p"), c, "DESCRIBE", users)
		assert.False(t, ok, line)
		if c.Scheme == "digest" {
			_, ok = Check(a.Header("DESCRIBE", "rtsp://h/p"), c, "PLAY", users)
			assert.False(t, ok, "an answer for one method does not serve another")
		}
	}
}

func FuzzParseChallenges(f *testing.F) {
	f.Add(`Digest realm="a", nonce="b", Basic realm="c"`)
	f.Add(`Digest realm="unclosed`)
	f.Add(`Basic`)
	f.Add(`=,=`)
	f.Fuzz(func(t *testing.T, line string) {
		for _, c := range ParseChallenges([]string{line}) {
			if c.Scheme == "" {
				t.Fatal("a challenge without a scheme")
			}
			NewAnswer(c, "u", "p").Header("GET", "/")
		}
	})
}
