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
	for _, c := range []struct {
		name    string
		policy  Policy
		sending Sending
		want    int
	}{
		{"a stranger that wants the password itself", Policy{}, Sending{Scheme: "basic"}, readable},
		{"somebody has agreed", Policy{Readable: true}, Sending{Scheme: "basic"}, ok},
		{"somebody has agreed, and nobody has begun the work", Policy{Readable: true, Unattended: true}, Sending{Scheme: "basic"}, readable},
		{"a digest in work that nobody has begun", Policy{Unattended: true}, Sending{Scheme: "digest MD5"}, ok},
		{"over TLS to the certificate it is known by", Policy{}, Sending{Scheme: "basic", Private: true}, ok},
		{"a stranger that wants a digest", Policy{}, Sending{Scheme: "digest MD5"}, ok},
		{"the token of device services", Policy{}, Sending{Scheme: "WS-UsernameToken"}, ok},
		{"what it always took", Policy{Before: "digest MD5"}, Sending{Scheme: "digest MD5"}, ok},
		{"one as strong as before", Policy{Before: "WS-UsernameToken"}, Sending{Scheme: "digest MD5"}, ok},
		{"a stronger one than before", Policy{Before: "digest MD5"}, Sending{Scheme: "digest SHA-256"}, ok},
		{"a weaker hash than before", Policy{Before: "digest SHA-256"}, Sending{Scheme: "digest MD5"}, weaker},
		{"basic where it took a digest, though somebody agreed to basic on the site", Policy{Before: "digest MD5", Readable: true},
			Sending{Scheme: "basic"}, weaker},
		{"basic over TLS where it took a digest", Policy{Before: "WS-UsernameToken"}, Sending{Scheme: "basic", Private: true}, weaker},
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
