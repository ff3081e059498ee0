package sealed_test

import (
	"fmt"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
)

func TestRecipientsSayWhichLineIsWrong(t *testing.T) {
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	good := key.Recipient().String()
	for _, c := range []struct {
		text, want string
	}{
		{"# firm\n" + good + "\nage1wrong\n", `line 3: "age1wrong" is no public key: it begins with age1`},
		{good + "\n\n" + key.String(), "line 3: this is a secret key: give the public one, which begins with age1, and keep this to yourself"},
		{strings.Repeat(good+"\n", 51), "line 51: there are more than 50 recipients"},
	} {
		_, _, err := sealed.ParseRecipients(c.text)
		var bad *sealed.RecipientError
		require.ErrorAs(t, err, &bad)
		assert.Equal(t, c.want, bad.Error())
		assert.NotContains(t, bad.Error(), key.String())
	}
}

func TestWhatIsSealedOpensForWhomItIsSealed(t *testing.T) {
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	pass := signin.NewSecret("a passphrase of some length")
	_, _, err = sealed.Seal(nil, key.Recipient().String(), pass)
	assert.ErrorIs(t, err, sealed.ErrBoth)
	_, _, err = sealed.Seal(nil, "# nobody\n", signin.Secret{})
	assert.ErrorIs(t, err, sealed.ErrNobody)
	_, err = sealed.Check("", signin.NewSecret("short"))
	assert.ErrorIs(t, err, sealed.ErrWeakPassphrase)
	checked, err := sealed.Check("", pass)
	require.NoError(t, err)
	assert.Equal(t, sealed.To{Passphrase: true}, checked)
	raw, how, err := sealed.Seal([]byte("brass kettle"), key.Recipient().String(), signin.Secret{})
	require.NoError(t, err)
	assert.Equal(t, sealed.To{Recipients: []string{key.Recipient().String()}}, how)
	got, err := sealed.Open(raw, signin.NewSecret(key.String()), 12)
	require.NoError(t, err)
	assert.Equal(t, "brass kettle", string(got))
	_, err = sealed.Open(raw, signin.NewSecret(key.String()), 11)
	assert.ErrorIs(t, err, sealed.ErrDamaged)
	_, err = sealed.Open(raw[:len(raw)-1], signin.NewSecret(key.String()), 12)
	assert.ErrorIs(t, err, sealed.ErrDamaged)
	_, err = sealed.Open(raw, pass, 12)
	assert.ErrorIs(t, err, sealed.ErrNotToYou)
}

func FuzzOpen(f *testing.F) {
	raw, _, err := sealed.Seal([]byte("brass kettle"), "", signin.NewSecret("a passphrase of some length"))
	require.NoError(f, err)
	key, err := age.GenerateX25519Identity() // a passphrase takes too long for many tries
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		_, err := sealed.Open(raw, signin.NewSecret(key.String()), 100)
		assert.Error(t, err)
	})
}

func ExampleOpen() {
	pass := signin.NewSecret("a passphrase of some length")
	raw, _, _ := sealed.Seal([]byte("brass kettle"), "", pass)
	open, err := sealed.Open(raw, pass, 1<<10)
	fmt.Println(string(open), err)
	// Output: brass kettle <nil>
}
