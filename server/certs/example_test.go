package certs_test

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"

	"unlatch/server/certs"
)

// A server with a certificate of its own making.
func ExampleOwn() {
	data, err := os.MkdirTemp("", "certs")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(data)
	k, err := certs.Own(data, []string{"localhost"}, slog.Default())
	if err != nil {
		fmt.Println(err)
		return
	}
	c := &tls.Config{GetCertificate: k.Get, NextProtos: k.Protocols()}
	fmt.Println(c.NextProtos, k.State().Source)
	// Output: [http/1.1] made here
}
