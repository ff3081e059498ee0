package store

import "golang.org/x/crypto/chacha20poly1305"

// OpensWith reports whether a data key opens an encrypted value.
func OpensWith(key, value []byte, owner string) bool {
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return false
	}
	_, err = decryptWith(aead, value, owner)
	return err == nil
}
