package media

import (
	"os/exec"
	"syscall"
)

// dieWithParent ends a decoder with this program, also where that is killed.
func dieWithParent(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }
