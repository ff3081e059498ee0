//go:build !linux

package discovery

import "net"

func reuse(uintptr) error { return nil }

func roomy(conn *net.UDPConn) { conn.SetReadBuffer(4 << 20) }
