package signin

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPolicy(t *testing.T) {
	const (
		ok = iota
		readable
		weaker
	)
	strange := Channel{Scheme: "https", At: "192.0.2.7:443", Certificate: "aa"}
	vouched := strange
	vouched.Vouched = true
	taken := []string{"aa"}
	for _, c := range []struct {
		name    string
		policy  Policy
		sending Sending
		want    int
	}{
		{"a stranger that wants the password itself", Policy{}, Sending{Scheme: "basic"}, readable},
		{"somebody has agreed", Policy{Agreed: InClear}, Sending{Scheme: "basic"}, ok},
		{"somebody has agreed, and nobody has begun the work", Policy{Agreed: InClear, Unattended: true}, Sending{Scheme: "basic"}, readable},
		{"a digest in work that nobody has begun", Policy{Unattended: true}, Sending{Scheme: "digest MD5"}, ok},
		{"over TLS to a stranger, whatever it was known by before", Policy{}, Sending{Scheme: "basic", Channel: strange}, readable},
		{"over TLS to a stranger, agreed for that", Policy{Agreed: OverTLS}, Sending{Scheme: "basic", Channel: strange}, ok},
		{"without TLS, agreed for TLS alone", Policy{Agreed: OverTLS}, Sending{Scheme: "basic"}, readable},
		{"over TLS, agreed in clear", Policy{Agreed: InClear}, Sending{Scheme: "basic", Channel: strange}, ok},
		{"over TLS to a certificate that is known", Policy{Certificates: taken}, Sending{Scheme: "basic", Channel: strange}, ok},
		{"the same in work that nobody has begun", Policy{Certificates: taken, Unattended: true}, Sending{Scheme: "basic", Channel: strange}, ok},
		{"over TLS to another certificate", Policy{Certificates: []string{"bb"}}, Sending{Scheme: "basic", Channel: strange}, readable},
		{"over TLS to one that an authority vouches for", Policy{}, Sending{Scheme: "basic", Channel: vouched}, ok},
		{"a stranger that wants a digest", Policy{}, Sending{Scheme: "digest MD5"}, ok},
		{"the token of device services", Policy{}, Sending{Scheme: "WS-UsernameToken"}, ok},
		{"what it always took", Policy{Before: "digest MD5"}, Sending{Scheme: "digest MD5"}, ok},
		{"one as strong as before", Policy{Before: "WS-UsernameToken"}, Sending{Scheme: "digest MD5"}, ok},
		{"a stronger one than before", Policy{Before: "digest MD5"}, Sending{Scheme: "digest SHA-256"}, ok},
		{"a weaker hash than before", Policy{Before: "digest SHA-256"}, Sending{Scheme: "digest MD5"}, weaker},
		{"basic where it took a digest, though somebody agreed to basic on the site", Policy{Before: "digest MD5", Agreed: InClear},
			Sending{Scheme: "basic"}, weaker},
		{"basic over TLS where it took a digest", Policy{Before: "WS-UsernameToken", Certificates: taken},
			Sending{Scheme: "basic", Channel: strange}, weaker},
		{"basic as before, and nobody has agreed", Policy{Before: "basic"}, Sending{Scheme: "basic"}, readable},
		{"a scheme of its own", Policy{}, Sending{Scheme: "negotiate"}, readable},
	} {
		_, err := c.policy.Leave(context.Background(), c.sending)
		switch c.want {
		case ok:
			assert.NoError(t, err, c.name)
		case readable:
			assert.ErrorAs(t, err, new(*ReadableError), c.name)
		case weaker:
			assert.ErrorAs(t, err, new(*WeakerError), c.name)
		}
	}
	_, err := Leave(nil).Ask(context.Background(), Sending{Scheme: "basic"})
	require.ErrorAs(t, err, new(*ReadableError), "no leave is no consent")
	assert.Contains(t, err.Error(), "nobody has agreed")
}
