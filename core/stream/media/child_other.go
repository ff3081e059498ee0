//go:build !linux

package media

import "os/exec"

// dieWithParent does nothing here: the decoder ends when its input does.
func dieWithParent(*exec.Cmd) {}
