package jobs

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A worker sends its pass to the server whose certificate it was told, and to no other that answers there.
func TestTheServersFingerprint(t *testing.T) {
	asked := 0
	s := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer s.Close()
	at, err := url.Parse(s.URL)
	require.NoError(t, err)
	sum := sha256.Sum256(s.Certificate().Raw)
	right := strings.ToUpper(hex.EncodeToString(sum[:]))
	colons := ""
	for i := 0; i < len(right); i += 2 {
		colons += right[i:i+2] + ":"
	}
	for _, told := range []string{right, strings.TrimSuffix(colons, ":")} {
		res, err := ServerAddress{URL: at, Fingerprint: told}.client().Get(s.URL)
		require.NoError(t, err)
		res.Body.Close()
	}
	assert.Equal(t, 2, asked)
	_, err = ServerAddress{URL: at, Fingerprint: strings.Repeat("00", 32)}.client().Get(s.URL)
	var other *FingerprintError
	require.ErrorAs(t, err, &other)
	assert.Equal(t, strings.ToLower(right), other.Shown)
	_, err = ServerAddress{URL: at}.client().Get(s.URL)
	assert.ErrorContains(t, err, "certificate", "nobody has signed it")
	assert.Equal(t, 2, asked, "nothing went out")
}
