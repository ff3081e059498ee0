package httpauth_test

import (
	"fmt"

	"unlatch/core/ground/httpauth"
)

func ExampleChoose() {
	offered := httpauth.ParseChallenges([]string{
		`Basic realm="cam"`,
		`Digest realm="cam", nonce="a1", algorithm=MD5`,
		`Digest realm="cam", nonce="a1", algorithm=SHA-256`,
	})
	strongest, _ := httpauth.Choose(offered)
	fmt.Println(strongest.Name(), strongest.Realm())
	// Output: digest SHA-256 cam
}
