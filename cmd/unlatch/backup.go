package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/ground/signin"
	"unlatch/store"
	"unlatch/store/backup"
	"unlatch/store/cluster"
)

// keptFiles are the files of the data folder that a backup holds, by their names there.
var keptFiles = []string{backup.KeyFile, "tls-cert.pem", "tls-key.pem"}

// backupPrefix begins the names that backups get in a folder.
const backupPrefix = "unlatch-"

// configName is the name of the configuration file among the secrets of a backup.
const configName = "unlatch.yaml"

// sealFlags say to whom secrets are sealed.
type sealFlags struct {
	recipients, passphrase string // files
	open                   bool   // leave them out
}

func (f *sealFlags) source() (src backup.Source, err error) {
	switch {
	case f.recipients != "" && f.passphrase != "" || f.open && (f.recipients != "" || f.passphrase != ""):
		return src, usageError{errors.New("give one of --recipients, --passphrase-file and --without-key")}
	case f.recipients == "" && f.passphrase == "" && !f.open:
		return src, usageError{errors.New("say who may open the key file in the backup: --recipients FILE with public keys of age, or " +
			"--passphrase-file FILE; or leave it out by --without-key and keep it elsewhere")}
	case f.recipients != "":
		raw, err := readSmall(f.recipients)
		src.Recipients = string(raw)
		return src, err
	case f.passphrase != "":
		src.Passphrase, err = passphraseIn(f.passphrase)
	}
	return src, err
}

// passphraseIn reads a passphrase, or a secret key, from a file.
func passphraseIn(path string) (signin.Secret, error) {
	raw, err := readSmall(path)
	return signin.NewSecret(secretOf(string(raw))), err
}

func backupCommand() *cobra.Command {
	p := &place{}
	var seal sealFlags
	var to string
	c := &cobra.Command{Use: "backup --to FILE|DIR", Short: "Write everything that a server keeps into one file", Args: noArgs,
		Long: "Backup writes the database as it is at one moment, the key file, the certificate and the settings into one file,\n" +
			"and checks it. The server may run meanwhile. Without the key file nobody can read the sign-ins in the database: it is\n" +
			"sealed, to public keys of age or to a passphrase. Into a folder the file goes under the name of its time.\n" +
			"Exit 0 when it is written and in order.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if to == "" {
				return usageError{errors.New("say where to: --to FILE or --to DIR")}
			}
			src, err := seal.source()
			if err != nil {
				return err
			}
			m, path, err := p.backup(cmd.Context(), src, to, configPath(cmd.Flags()), time.Now())
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is written and in order: %s.\n", path, contentsLine(m))
			return nil
		}}
	p.flags(c, false)
	c.Flags().StringVar(&to, "to", "", "file to write, or folder to write into")
	c.Flags().StringVar(&seal.recipients, "recipients", "", "file with public keys of age, one a line, to which the key file is sealed")
	c.Flags().StringVar(&seal.passphrase, "passphrase-file", "", "file with the passphrase to which the key file is sealed")
	c.Flags().BoolVar(&seal.open, "without-key", false, "leave the key file out: it is kept elsewhere")
	c.AddCommand(backupVerifyCommand())
	return c
}

// contentsLine says in one line what a backup holds.
func contentsLine(m backup.Manifest) string {
	var size int64
	for _, f := range m.Files {
		size += f.Bytes
	}
	key := "with the key file"
	if m.Sealed == nil {
		key = "without the key file"
	}
	return fmt.Sprintf("%d rows of %d tables, %d lines of the record, %s, %.1f MB", m.Rows(), len(m.Tables), m.Record.Lines, key,
		float64(size)/1e6)
}

// backup writes a backup into a file, or under the name of its time into a folder. What is there under the name is whole and checked.
func (p *place) backup(ctx context.Context, src backup.Source, to, config string, at time.Time) (m backup.Manifest, path string,
	err error) {
	path = to
	if info, serr := os.Stat(to); serr == nil && info.IsDir() {
		path = filepath.Join(to, backupPrefix+at.UTC().Format("20060102-150405")+".zip")
	} else if serr == nil {
		return m, path, fmt.Errorf("%s is there already: name another file", to)
	}
	if src.Secrets, err = p.secretFiles(config); err != nil {
		return m, path, err
	}
	url, done, err := p.databaseOf(ctx)
	if err != nil {
		return m, path, err
	}
	defer done()
	src.Database = url
	part, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return m, path, err
	}
	defer os.Remove(part.Name())
	m, err = backup.Write(ctx, part, src)
	if err := errors.Join(err, part.Sync(), part.Close()); err != nil {
		return m, path, fmt.Errorf("writing the backup: %w", err)
	}
	b, err := openChecked(ctx, part.Name())
	if err != nil {
		return m, path, err
	}
	defer b.Close()
	return m, path, os.Rename(part.Name(), path)
}

// secretFiles reads what of the data folder, and of the settings, belongs into a backup.
func (p *place) secretFiles(config string) (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, name := range keptFiles {
		raw, err := os.ReadFile(filepath.Join(p.data, name))
		if errors.Is(err, fs.ErrNotExist) && name != backup.KeyFile {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%w: is %s the data folder of a server?", err, p.data)
		}
		out[name] = raw
	}
	if config != "" {
		raw, err := os.ReadFile(config)
		if err != nil {
			return nil, err
		}
		out[configName] = raw
	}
	return out, nil
}

// databaseOf returns the address of the server's database, whether the server runs or not.
func (p *place) databaseOf(ctx context.Context) (url string, done func(), err error) {
	if p.database != "" {
		return p.database, func() {}, nil
	}
	data, err := filepath.Abs(p.data)
	if err != nil {
		return "", nil, err
	}
	if url, ok := runningIn(data); ok {
		return url, func() {}, nil
	}
	p.data, p.log = data, p.logTo(os.Stderr)
	s := &services{}
	url, err = p.ownDatabase(ctx, s)
	if err != nil {
		s.Close()
	}
	return url, s.Close, err
}

func backupVerifyCommand() *cobra.Command {
	var with string
	c := &cobra.Command{Use: "verify FILE", Short: "Restore a backup into a database for once, and check that everything is there",
		Long: "Verify checks the hash of each file, restores the database into one that is thrown away, compares the rows of each table and\n" +
			"checks the chain of the record. With --identity or --passphrase-file it opens the key file too, and by it finds out whether\n" +
			"somebody else wrote the backup anew.\nExit 0 when the backup is in order, 1 when not, 2 on wrong use.",
		Args: oneBackup,
		RunE: func(cmd *cobra.Command, args []string) error {
			b, secrets, err := openBackup(cmd.Context(), args[0], with)
			if err != nil {
				return err
			}
			defer b.Close()
			if err := tryRestore(cmd.Context(), b, secrets); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s of %s is in order: %s.\n", args[0], b.Manifest.At.Local().Format(time.DateTime),
				contentsLine(b.Manifest))
			return nil
		}}
	withFlag(c, &with)
	return c
}

func withFlag(c *cobra.Command, with *string) {
	c.Flags().StringVar(with, "identity", "", "file with the secret key of age that opens the key file")
	c.Flags().StringVar(with, "passphrase-file", "", "file with the passphrase that opens the key file")
	c.MarkFlagsMutuallyExclusive("identity", "passphrase-file")
}

func oneBackup(_ *cobra.Command, args []string) error {
	if len(args) != 1 {
		return usageError{errors.New("name one backup")}
	}
	return nil
}

// openChecked opens a backup and checks that it is as it was written.
func openChecked(ctx context.Context, path string) (*backup.Backup, error) {
	b, err := backup.Open(path, store.Schema())
	if err != nil {
		return nil, err
	}
	if err := b.Check(ctx); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// openBackup is openChecked, and opens what is sealed with the secret in a file; secrets is nil where with is "".
func openBackup(ctx context.Context, path, with string) (b *backup.Backup, secrets map[string][]byte, err error) {
	if b, err = openChecked(ctx, path); err != nil || with == "" {
		return b, nil, err
	}
	secret, err := passphraseIn(with)
	if err == nil {
		secrets, err = b.Secrets(secret)
	}
	if err != nil {
		b.Close()
		return nil, nil, err
	}
	return b, secrets, nil
}

// tryRestore restores a backup into a cluster that is thrown away, and opens a store on it.
func tryRestore(ctx context.Context, b *backup.Backup, secrets map[string][]byte) error {
	dir, err := os.MkdirTemp("", "unlatch-verify-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // PostgreSQL may run as a user of its own
		return err
	}
	c, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(dir, "pg"), Scratch: true})
	if err != nil {
		return err
	}
	defer c.Stop()
	if err := b.Restore(ctx, c.URL); err != nil {
		return err
	}
	o := store.Options{URL: c.URL, KeyFile: filepath.Join(dir, backup.KeyFile), ForgetSignIns: secrets == nil}
	if key := secrets[backup.KeyFile]; key != nil {
		if err := os.WriteFile(o.KeyFile, key, 0o600); err != nil {
			return err
		}
	}
	s, err := store.OpenWith(ctx, o)
	if err != nil {
		return err
	}
	defer s.Close()
	newest := b.Manifest.Record
	if newest.Lines == 0 {
		newest.Hash = "" // there is no line that could have it
	}
	chain, err := s.Verify(ctx, newest.Hash)
	if err != nil {
		return err
	}
	if chain.Broken != nil || newest.Lines > 0 && !chain.Contains {
		return fmt.Errorf("the record in the backup does not hold: %s", chain)
	}
	return nil
}

func restoreCommand() *cobra.Command {
	p := &place{}
	var with string
	var keyless bool
	c := &cobra.Command{Use: "restore FILE --data DIR", Short: "Put a backup back, into an empty data folder", Args: oneBackup,
		Long: "Restore checks a backup and puts the database, the key file, the certificate and the settings into a data folder that is\n" +
			"not in use, or with --database into an empty database. Nothing is changed where that holds something. Start the server on\n" +
			"it then.\nExit 0 when it is restored, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (with == "") != keyless {
				return usageError{errors.New("say how to open the key file: --identity FILE or --passphrase-file FILE; or put it into the data " +
					"folder yourself and say --without-key")}
			}
			b, secrets, err := openBackup(cmd.Context(), args[0], with)
			if err != nil {
				return err
			}
			defer b.Close()
			return p.restore(cmd.Context(), b, secrets, cmd.OutOrStdout())
		}}
	p.flags(c, false)
	withFlag(c, &with)
	c.Flags().BoolVar(&keyless, "without-key", false, "the key file is in the data folder already, or is not to be had")
	return c
}

func (p *place) restore(ctx context.Context, b *backup.Backup, secrets map[string][]byte, out io.Writer) error {
	data, err := filepath.Abs(p.data)
	if err != nil {
		return err
	}
	p.data, p.log = data, p.logTo(os.Stderr)
	s := &services{}
	defer s.Close()
	url := p.database
	if url == "" {
		if url, err = p.ownDatabase(ctx, s); err != nil {
			return err
		}
	}
	if err := backup.Unused(ctx, url); err != nil {
		return err
	}
	// The files first: whoever begins again after a cut finds them as they are, and the database comes whole or not at all.
	for _, name := range append([]string{configName}, keptFiles...) {
		if raw := secrets[name]; raw != nil {
			if err := putBack(filepath.Join(data, name), raw); err != nil {
				return err
			}
		}
	}
	if err := b.Restore(ctx, url); err != nil {
		return err
	}
	fmt.Fprintf(out, "The backup of %s is restored: %s.\nStart the server with --data %s\n", b.Manifest.At.Local().Format(time.DateTime),
		contentsLine(b.Manifest), data)
	if _, ok := secrets[configName]; ok {
		fmt.Fprintf(out, "Its settings lie in %s: the server reads them with --config.\n", filepath.Join(data, configName))
	}
	return nil
}

// putBack writes a file for its owner alone, unless it is there already. It is an error where another one is there.
func putBack(path string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		if has, err := os.ReadFile(path); err != nil || bytes.Equal(has, raw) {
			return err
		}
		return fmt.Errorf("the data folder is in use: %s is there and is not that of the backup; restore into an empty one with --data",
			path)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	return errors.Join(err, f.Sync(), f.Close())
}
