//go:build !unix

package discovery

func reuse(uintptr) error { return nil }
