package target_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/signin"
	"unlatch/core/wire/target"
)

// Who may be handed a secret: the table of all that counts.
func TestWhoIsHandedASecret(t *testing.T) {
	plain := signin.Channel{Scheme: "http", At: "192.0.2.7:80"}
	secure := signin.Channel{Scheme: "https", At: "192.0.2.7:443", Certificate: "aa"}
	vouched := secure
	vouched.Vouched = true
	desk := target.About{Kind: "software", Maker: "Overlea", Model: "Desk 2", Serial: "7"}
	handing := func(c signin.Channel, scheme string) target.Handing {
		return target.Handing{Secret: target.CameraSignIn, Channel: c, Scheme: scheme, About: desk}
	}
	agreedTo := func(h target.Handing) target.Trust {
		id := h.Identity()
		return target.Trust{Agreements: []target.Agreement{{Secret: h.Secret, To: &id}}}
	}
	taken := target.Trust{Certificates: []string{"aa"}}
	other := handing(plain, "digest MD5")
	other.About.Serial = "8"
	silent := handing(plain, "digest MD5")
	silent.About.Serial = ""
	key := handing(plain, "digest MD5")
	key.Secret = target.StreamKey
	unattended := agreedTo(handing(plain, "none"))
	unattended.Unattended = true
	for _, c := range []struct {
		name    string
		trust   target.Trust
		handing target.Handing
		no      string
	}{
		{"without TLS", target.Trust{}, handing(plain, "digest MD5"), "without TLS"},
		{"over TLS to a stranger", target.Trust{}, handing(secure, "digest MD5"), "nobody has vouched for"},
		{"over TLS to one that asks nobody", taken, handing(secure, "none"), "asks nobody"},
		{"over TLS to a certificate that a person took", taken, handing(secure, "digest MD5"), ""},
		{"over TLS to one that an authority vouches for", target.Trust{}, handing(vouched, "basic"), ""},
		{"over TLS to another certificate than was taken", target.Trust{Certificates: []string{"bb"}}, handing(secure, "basic"), "vouched"},
		{"agreed", agreedTo(handing(plain, "none")), handing(plain, "none"), ""},
		{"agreed, and nobody has answered there yet", target.Trust{Agreements: []target.Agreement{{Secret: target.CameraSignIn}}},
			handing(plain, "none"), ""},
		{"agreed for another secret", agreedTo(key), handing(plain, "digest MD5"), "nobody has agreed"},
		{"agreed, and nobody has begun the work", unattended, handing(plain, "none"), "began by itself"},
		{"agreed for another address", agreedTo(handing(plain, "basic")),
			handing(signin.Channel{Scheme: "http", At: "192.0.2.7:8081"}, "basic"), "its address is another"},
		{"agreed for another scheme", agreedTo(handing(plain, "digest MD5")), handing(plain, "none"), "its sign-in scheme is another"},
		{"agreed for another certificate", agreedTo(handing(secure, "none")),
			handing(signin.Channel{Scheme: "https", At: "192.0.2.7:443", Certificate: "bb"}, "none"), "its certificate is another"},
		{"agreed for another serial number", agreedTo(handing(plain, "digest MD5")), other, "its serial number is another"},
		{"agreed for one that told its serial number", agreedTo(handing(plain, "digest MD5")), silent, "its serial number is another"},
		{"agreed over TLS, and now without", agreedTo(handing(secure, "none")),
			handing(signin.Channel{Scheme: "http", At: "192.0.2.7:443"}, "none"), "its address is another"},
	} {
		_, err := c.trust.Check(c.handing)
		if c.no == "" {
			assert.NoError(t, err, c.name)
			continue
		}
		var no *target.HandingError
		if assert.ErrorAs(t, err, &no, c.name) {
			assert.Contains(t, err.Error(), c.no, c.name)
		}
	}
	used, err := agreedTo(handing(plain, "none")).Check(handing(plain, "none"))
	require.NoError(t, err)
	require.NotNil(t, used)
	assert.ErrorAs(t, target.HandOver(nil).Ask(t.Context(), handing(plain, "none")), new(*target.HandingError), "no gate is no leave")
}
