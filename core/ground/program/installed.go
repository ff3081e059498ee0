package program

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// A Folder is where a machine keeps the program that it was handed. The program that is installed on the machine starts it; where it does
// not come to work, the one before that works instead, and the installed one where there is none.
type Folder struct {
	Path    string
	Trusted ed25519.PublicKey
}

// The files of a folder.
const (
	programFile = "program"
	headFile    = "program.head"
	stateFile   = "program.state"
	partSuffix  = ".part"
	lastSuffix  = ".last" // of the one before, which has worked
)

// MostStarts is how often a program is started that has not come to work yet.
const MostStarts = 3

// A state is how a program has done so far.
type state struct {
	Starts int    `json:"starts"`
	Works  bool   `json:"works"`            // it has come to work once
	Failed string `json:"failed,omitempty"` // the version of the one after it, which never did
}

// Program returns the path of the program that a machine was handed; "" where it has none that is newer than the version that runs, that is
// signed, and that is what was signed. One that was started as often as may be and never came to work is given up for the one before.
func (f Folder) Program(running string) (path, version string, err error) {
	text, err := os.ReadFile(filepath.Join(f.Path, headFile))
	if err != nil {
		return "", "", nothing(err)
	}
	m, err := Verify(text, f.Trusted)
	if err != nil || !Newer(m.Version, running) {
		return "", "", nil
	}
	if s := f.state(); !s.Works && s.Starts >= MostStarts {
		if err := f.giveUp(m.Version); err != nil {
			return "", "", err
		}
		return f.Program(running)
	}
	path = filepath.Join(f.Path, programFile)
	if err := m.copied(path); err != nil {
		return "", "", nothing(err)
	}
	return path, m.Version, nil
}

// nothing is for a file that is not there, or not what it should be: there is no program then, which is no error.
func nothing(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrChanged) {
		return nil
	}
	return err
}

// giveUp puts the program back that worked before, where there is one, and keeps that the present one has failed.
func (f Folder) giveUp(version string) error {
	name := func(file string) string { return filepath.Join(f.Path, file) }
	if err := nothing(os.Remove(name(headFile))); err != nil {
		return err
	}
	back := os.Rename(name(programFile+lastSuffix), name(programFile))
	if err := f.keepState(state{Works: back == nil, Failed: version}); err != nil || back != nil {
		return errors.Join(err, nothing(back), nothing(os.Remove(name(programFile))))
	}
	return os.Rename(name(headFile+lastSuffix), name(headFile))
}

// Put keeps a program, which takes the place of the last one. What take writes is bounded; got is how much there is already, where an
// earlier call was cut off. The error is ErrSignature or ErrChanged for what is not taken; nothing of it is kept then.
func (f Folder) Put(text []byte, take func(to io.Writer, got int64) error) error {
	m, err := Verify(text, f.Trusted)
	if err != nil {
		return err
	}
	part := filepath.Join(f.Path, programFile+partSuffix)
	if err := f.fill(part, text, m, take); err != nil {
		return err
	}
	if err := m.copied(part); err != nil {
		return errors.Join(err, os.Remove(part))
	}
	// The head goes last: without its own, a program is not started.
	if err := f.setAside(); err != nil {
		return err
	}
	if err := f.keepState(state{}); err != nil {
		return err
	}
	if err := os.Rename(part, filepath.Join(f.Path, programFile)); err != nil {
		return err
	}
	return write(filepath.Join(f.Path, headFile), text)
}

// setAside takes the present program away, and keeps it for when the next one does not come to work, where it has itself.
func (f Folder) setAside() error {
	name := func(file string) string { return filepath.Join(f.Path, file) }
	if !f.state().Works {
		return nothing(os.Remove(name(headFile)))
	}
	if err := nothing(os.Rename(name(headFile), name(headFile+lastSuffix))); err != nil {
		return err
	}
	return nothing(os.Rename(name(programFile), name(programFile+lastSuffix)))
}

// fill takes a program into a file that nobody starts, from where the last call for the same program was cut off.
func (f Folder) fill(part string, text []byte, m Manifest, take func(to io.Writer, got int64) error) error {
	if err := os.MkdirAll(f.Path, 0o700); err != nil {
		return err
	}
	// Another program than the one that was begun is begun anew.
	begun := part + ".head"
	if was, err := os.ReadFile(begun); err != nil || !bytes.Equal(was, text) {
		if err := nothing(os.Remove(part)); err != nil {
			return err
		}
		if err := write(begun, text); err != nil {
			return err
		}
	}
	file, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o700)
	if err != nil {
		return err
	}
	defer file.Close()
	at, err := file.Stat()
	if err != nil {
		return err
	}
	if err := take(&bounded{to: file, left: m.Size - at.Size()}, at.Size()); err != nil {
		return err
	}
	return file.Sync()
}

// copied checks what a file holds.
func (m Manifest) copied(path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	return m.Copy(io.Discard, file)
}

// bounded takes so many bytes and no more.
type bounded struct {
	to   io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	if int64(len(p)) > b.left {
		return 0, ErrChanged
	}
	n, err := b.to.Write(p)
	b.left -= int64(n)
	return n, err
}

// Started keeps that the program is about to be started.
func (f Folder) Started() error {
	s := f.state()
	s.Starts++
	return f.keepState(s)
}

// Works keeps that the program has come to work: from now on it is started however often it ends.
func (f Folder) Works() error { return f.keepState(state{Works: true}) }

// Worked reports whether it has.
func (f Folder) Worked() bool { return f.state().Works }

// Failed returns the version of the program that was given up, until Told; "" for none.
func (f Folder) Failed() string { return f.state().Failed }

// Told keeps that somebody knows of the program that was given up.
func (f Folder) Told() error {
	s := f.state()
	s.Failed = ""
	return f.keepState(s)
}

func (f Folder) state() (s state) {
	if raw, err := os.ReadFile(filepath.Join(f.Path, stateFile)); err == nil && json.Unmarshal(raw, &s) != nil {
		return state{}
	}
	return s
}

func (f Folder) keepState(s state) error {
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return write(filepath.Join(f.Path, stateFile), raw)
}

// write replaces a file by what it shall hold, or leaves it as it is.
func write(path string, what []byte) error {
	part := path + ".new"
	if err := os.WriteFile(part, what, 0o600); err != nil {
		return err
	}
	return os.Rename(part, path)
}
