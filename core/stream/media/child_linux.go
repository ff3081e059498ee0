package media

import (
	"os/exec"
	"syscall"
)

// dieWithParent has the kernel end a decoder when this program ends, even if this program is killed.
func dieWithParent(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }
