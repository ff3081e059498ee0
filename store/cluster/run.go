package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
)

// A Program is a program of PostgreSQL that runs on a database.
type Program struct {
	Name     string // such as pg_dump
	Args     []string
	Database string // its address as a URL; "" for none
	In       io.Reader
	Out      io.Writer
}

// mostWords bounds what a program says about its failure, in bytes.
const mostWords = 4 << 10

// words keeps the end of what is written.
type words struct{ bytes.Buffer }

func (w *words) Write(b []byte) (int, error) {
	w.Buffer.Write(b)
	if over := w.Len() - mostWords; over > 0 {
		w.Next(over)
	}
	return len(b), nil
}

// Run runs a program of the newest installed PostgreSQL. The password goes by the environment, which no list of processes shows. Its error
// holds the last line that the program said; where what it wrote could not be kept, it is the error of Out.
func Run(ctx context.Context, p Program) error {
	path, err := binary(p.Name)
	if err != nil {
		return err
	}
	args := p.Args
	env := append(os.Environ(), "LC_ALL=C")
	if p.Database != "" {
		at, err := url.Parse(p.Database)
		if err != nil || at.Scheme != "postgres" && at.Scheme != "postgresql" {
			return errors.New("the database address cannot be read; write it like postgres://user@127.0.0.1:5432/unlatch")
		}
		if password, ok := at.User.Password(); ok {
			env = append(env, "PGPASSWORD="+password)
			at.User = url.User(at.User.Username())
		}
		args = append(args[:len(args):len(args)], "--dbname="+at.String())
	}
	cmd := exec.CommandContext(ctx, path, args...)
	var said words
	var failed error // of Out: the program then only knows that its pipe is shut
	cmd.Env, cmd.Stdin, cmd.Stderr = env, p.In, &said
	if p.Out != nil {
		cmd.Stdout = writerFunc(func(b []byte) (int, error) {
			n, err := p.Out.Write(b)
			if err != nil {
				failed = err
			}
			return n, err
		})
	}
	switch err := cmd.Run(); {
	case failed != nil:
		return failed
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil && said.Len() > 0:
		return fmt.Errorf("%s: %s", p.Name, lastLine(said.Bytes()))
	case err != nil:
		return fmt.Errorf("%s: %w", p.Name, err)
	}
	return nil
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }
