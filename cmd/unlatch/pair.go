package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"unlatch/core/ground/journal"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/release"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/link"
	"unlatch/jobs"
	"unlatch/store"
)

// identityFile is what a paired worker keeps of its pairing, in its data folder.
const identityFile = "worker.json"

// pairCommand makes this machine known to a server.
func pairCommand() *cobra.Command {
	var data, fingerprint string
	c := &cobra.Command{Use: "pair URL", Short: "Make this machine known to a server as a worker at a site",
		Long: "Pair shows a code, which somebody types on the server's page under Server, Pair a worker, and says which sites this machine\n" +
			"reaches. From then on unlatch worker needs no --database: it opens one connection to the server, and no port here or there.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			to, err := jobs.ReadServer(args[0])
			if err != nil {
				return usageError{err}
			}
			if err := os.MkdirAll(data, 0o700); err != nil {
				return err
			}
			path := filepath.Join(data, identityFile)
			if old, err := pairing.ReadIdentity(path); err == nil {
				return fmt.Errorf("this machine is paired with %s already; delete %s to pair it anew", old.Server, path)
			} else if !errors.Is(err, pairing.ErrNotPaired) {
				return err
			}
			i := pairing.NewIdentity(args[0], fingerprint)
			name, err := pairUntil(cmd, jobs.ServerAddress{URL: to, Fingerprint: fingerprint}, &i)
			if err != nil {
				return err
			}
			if err := i.Write(path); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Paired, as %s. Start it: unlatch worker --data %s\n", name, data)
			return nil
		}}
	c.Flags().StringVar(&data, "data", ".unlatch", "folder in which this machine keeps its key")
	c.Flags().StringVar(&fingerprint, "server-fingerprint", "",
		"SHA-256 of the server's certificate, where that is one of its own making: it prints it when it starts")
	return c
}

const pairEvery = 2 * time.Second

// pairUntil shows a code and waits until somebody has typed it at the server, or it is no longer good.
func pairUntil(cmd *cobra.Command, to jobs.ServerAddress, i *pairing.Identity) (name string, err error) {
	asked, err := jobs.Ask(cmd.Context(), to, pairing.Ask{Key: i.Key().Public(), Recipient: i.Recipient(), Machine: machineName(),
		Version: release.Version})
	if err != nil {
		return "", err
	}
	life := time.Duration(asked.Seconds) * time.Second
	fmt.Fprintf(cmd.OutOrStdout(),
		"\n  Code  %s\n  Key   %s\n\nType the code on the server's page within %.0f minutes: Server, Pair a worker.\n",
		wiretext.Line(asked.Code, 20), i.Key().Public().Name(), life.Minutes())
	ctx, done := context.WithTimeout(cmd.Context(), life)
	defer done()
	for {
		select {
		case <-ctx.Done():
			if cmd.Context().Err() != nil {
				return "", cmd.Context().Err()
			}
			return "", errors.New("nobody has typed the code in time; begin anew")
		case <-time.After(pairEvery):
		}
		out, err := jobs.Confirmed(ctx, to, asked.Token)
		if err != nil {
			if ctx.Err() == nil {
				fmt.Fprintln(cmd.ErrOrStderr(), "The server does not answer; trying again:", err)
			}
			continue
		}
		if _, err := uuid.Parse(out.Worker); err == nil {
			i.Worker = out.Worker
			return wiretext.Line(out.Name, 100), nil
		}
	}
}

// machineName returns what this machine is called.
func machineName() string {
	name, err := os.Hostname()
	if err != nil {
		return "unknown"
	}
	return name
}

// uplink begins the connection of a paired worker to its server, which ends with ctx; stop is called with the server's word where it lets
// this worker in no more. Its error is pairing.ErrNotPaired for a machine that is not paired.
func (p *place) uplink(ctx context.Context, stop context.CancelCauseFunc) (*jobs.Uplink, error) {
	i, err := pairing.ReadIdentity(filepath.Join(p.data, identityFile))
	if err != nil {
		return nil, err
	}
	worker, err := uuid.Parse(i.Worker)
	if err != nil {
		return nil, pairing.ErrNotPaired
	}
	u, err := jobs.NewUplink(i, link.Hello{Machine: machineName(), Version: release.Version}, p.logTo(os.Stderr))
	if err != nil {
		return nil, err
	}
	p.far = &store.Far{Worker: worker, Unwrap: signin.NewSecret(i.Unwrap)}
	p.journal, err = openJournal(p.data, i, p.logTo(os.Stderr))
	if err != nil {
		return nil, err
	}
	// Where it leads is the link's business; the name is there so that the address can be read.
	p.database, p.dial = "postgres://worker@link/?sslmode=disable", u.Dial
	go func() {
		if err := u.Run(ctx); ctx.Err() == nil {
			stop(err)
		}
	}()
	return u, nil
}

// Of what a paired worker sees while its line is cut.
const (
	journalFile = "away.journal"
	mostJournal = 64 << 20 // a day of some hundred cameras, with what has changed
)

// openJournal opens what a paired worker keeps while its line is cut, which its identity alone opens.
func openJournal(data string, i pairing.Identity, log *slog.Logger) (*journal.Journal, error) {
	j, lost, err := journal.Open(filepath.Join(data, journalFile), i.Seed, mostJournal)
	if err != nil {
		return nil, fmt.Errorf("opening what was kept while the line was cut: %w", err)
	}
	if lost > 0 {
		log.Warn("the end of what was kept while the line was cut cannot be read: it was being written when the machine stopped, or it is of "+
			"another pairing", "bytes", lost)
	}
	return j, nil
}
