package server

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/require"
)

// An authenticator is a passkey in software (WebAuthn §6): it makes one key, and signs with it for whatever origin it is told.
type authenticator struct {
	t       *testing.T
	key     *ecdsa.PrivateKey
	id      []byte
	counter uint32
}

func newAuthenticator(t *testing.T) *authenticator {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	id := make([]byte, 16)
	rand.Read(id)
	return &authenticator{t: t, key: key, id: id}
}

// b64 is how WebAuthn writes bytes in JSON.
func b64(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

// data is the authenticator data (§6.1): the party, flags for a present and verified user, the counter, and what follows.
func (a *authenticator) data(party string, flags byte, more []byte) []byte {
	sum := sha256.Sum256([]byte(party))
	out := append(sum[:], flags|0x05)
	out = binary.BigEndian.AppendUint32(out, a.counter)
	return append(out, more...)
}

func clientData(kind, challenge, origin string) []byte {
	raw, _ := json.Marshal(map[string]any{"type": kind, "challenge": challenge, "origin": origin, "crossOrigin": false})
	return raw
}

// register answers creation options as a browser at an origin does.
func (a *authenticator) register(options json.RawMessage, origin string) map[string]any {
	a.t.Helper()
	var o struct {
		Challenge string
		RP        struct{ ID string }
	}
	require.NoError(a.t, json.Unmarshal(options, &o))
	public, err := a.key.PublicKey.Bytes() // 04, x, y
	require.NoError(a.t, err)
	key, err := cbor.Marshal(map[int]any{1: 2, 3: -7, -1: 1, -2: public[1:33], -3: public[33:]})
	require.NoError(a.t, err)
	more := append(make([]byte, 16), byte(len(a.id)>>8), byte(len(a.id))) // no word of who has made it
	more = append(append(more, a.id...), key...)
	object, err := cbor.Marshal(map[string]any{"fmt": "none", "attStmt": map[string]any{}, "authData": a.data(o.RP.ID, 0x40, more)})
	require.NoError(a.t, err)
	return map[string]any{"id": b64(a.id), "rawId": b64(a.id), "type": "public-key", "response": map[string]any{
		"clientDataJSON": b64(clientData("webauthn.create", o.Challenge, origin)), "attestationObject": b64(object)}}
}

// assert answers request options as a browser at an origin does.
func (a *authenticator) assert(options json.RawMessage, origin string) map[string]any {
	a.t.Helper()
	var o struct {
		Challenge string
		RPID      string `json:"rpId"`
	}
	require.NoError(a.t, json.Unmarshal(options, &o))
	a.counter++
	data, client := a.data(o.RPID, 0, nil), clientData("webauthn.get", o.Challenge, origin)
	sum := sha256.Sum256(client)
	hash := sha256.Sum256(append(append([]byte{}, data...), sum[:]...))
	signature, err := ecdsa.SignASN1(rand.Reader, a.key, hash[:])
	require.NoError(a.t, err)
	return map[string]any{"id": b64(a.id), "rawId": b64(a.id), "type": "public-key", "response": map[string]any{
		"clientDataJSON": b64(client), "authenticatorData": b64(data), "signature": b64(signature)}}
}
