package program_test

import (
	"crypto/sha256"
	"fmt"

	"unlatch/core/ground/program"
)

func Example() {
	private, public, _ := program.NewKey()
	key, _ := program.ReadKey(private)
	sum := sha256.Sum256([]byte("the program"))
	head, _ := program.Sign(key, program.Manifest{Version: "0.2.0", OS: "linux", Arch: "arm64", Size: 11, SHA256: sum[:]})

	trusted, _ := program.ReadTrusted(public)
	m, err := program.Verify(head, trusted)
	fmt.Println(m.Version, m.Platform(), err)
	// Output: 0.2.0 linux/arm64 <nil>
}
