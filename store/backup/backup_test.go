package backup_test

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
	"unlatch/store"
	"unlatch/store/backup"
	"unlatch/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

// bench is a database with a site in it, and a key that opens its backups.
type bench struct {
	url  string
	file string // a backup of it
	m    backup.Manifest
	key  *age.X25519Identity
}

var secrets = map[string][]byte{backup.KeyFile: []byte("0123456789abcdef0123456789abcdef"), "unlatch.yaml": []byte("tls: true\n")}

func newBench(t *testing.T) bench {
	t.Helper()
	b := bench{url: storetest.EmptyURL(t), file: filepath.Join(t.TempDir(), "backup.zip")}
	s, err := store.Open(ctx, b.url, filepath.Join(t.TempDir(), "key"), nil)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Pool.Exec(ctx, "INSERT INTO settings (name, value) VALUES ('brass', 'kettle')")
	require.NoError(t, err)
	b.key, err = age.GenerateX25519Identity()
	require.NoError(t, err)
	f, err := os.Create(b.file)
	require.NoError(t, err)
	defer f.Close()
	b.m, err = backup.Write(ctx, f, backup.Source{Database: b.url, Secrets: secrets, Recipients: b.key.Recipient().String()})
	require.NoError(t, err)
	return b
}

func (b bench) secret() signin.Secret { return signin.NewSecret(b.key.String()) }

func TestABackupIsRestoredAsItWas(t *testing.T) {
	t.Parallel()
	x := newBench(t)
	b, err := backup.Open(x.file, store.Schema())
	require.NoError(t, err)
	defer b.Close()
	require.NoError(t, b.Check(ctx))
	assert.Equal(t, store.Schema(), b.Manifest.Schema)
	assert.EqualValues(t, 2, b.Manifest.Tables["settings"], "the key check and what was put there")
	got, err := b.Secrets(x.secret())
	require.NoError(t, err)
	assert.Equal(t, secrets, got)
	raw, err := os.ReadFile(x.file)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), string(secrets[backup.KeyFile]))

	url := storetest.EmptyURL(t)
	require.NoError(t, b.Restore(ctx, url))
	s, err := store.OpenWith(ctx, store.Options{URL: url, KeyFile: filepath.Join(t.TempDir(), "key"), ForgetSignIns: true})
	require.NoError(t, err)
	defer s.Close()
	var text string
	require.NoError(t, s.Pool.QueryRow(ctx, "SELECT convert_from(value, 'UTF8') FROM settings WHERE name = 'brass'").Scan(&text))
	assert.Equal(t, "kettle", text)
	chain, err := s.Verify(ctx, b.Manifest.Record.Hash)
	require.NoError(t, err)
	assert.Nil(t, chain.Broken)

	assert.ErrorIs(t, b.Restore(ctx, url), backup.ErrInUse)
}

// A backup is as of one moment: what is written while it is made is in it as a whole or not at all, and its counts agree with its dump.
func TestABackupIsOfOneMoment(t *testing.T) {
	t.Parallel()
	url := storetest.EmptyURL(t)
	s, err := store.Open(ctx, url, filepath.Join(t.TempDir(), "key"), nil)
	require.NoError(t, err)
	defer s.Close()
	writing, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for writing.Err() == nil {
			s.Pool.Exec(writing, "INSERT INTO settings (name, value) VALUES (gen_random_uuid()::text, 'x')")
		}
	}()
	path := filepath.Join(t.TempDir(), "backup.zip")
	f, err := os.Create(path)
	require.NoError(t, err)
	_, err = backup.Write(ctx, f, backup.Source{Database: url})
	stop()
	<-ended
	require.NoError(t, errors.Join(err, f.Close()))
	b, err := backup.Open(path, store.Schema())
	require.NoError(t, err)
	defer b.Close()
	assert.NoError(t, b.Restore(ctx, storetest.EmptyURL(t)), "which compares the counts")
	_, err = b.Secrets(signin.NewSecret("x"))
	assert.ErrorIs(t, err, backup.ErrNoSecrets)
}

// rewritten writes a backup anew with its files changed.
func (b bench) rewritten(t *testing.T, change func(path string, raw []byte) []byte) string {
	t.Helper()
	in, err := zip.OpenReader(b.file)
	require.NoError(t, err)
	defer in.Close()
	path := filepath.Join(t.TempDir(), "changed.zip")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	for _, e := range in.File {
		r, err := e.Open()
		require.NoError(t, err)
		raw, err := io.ReadAll(r)
		require.NoError(t, err)
		if raw = change(e.Name, raw); raw == nil {
			continue
		}
		w, err := z.Create(e.Name)
		require.NoError(t, err)
		_, err = w.Write(raw)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return path
}

func TestADamagedBackupIsRefused(t *testing.T) {
	t.Parallel()
	x := newBench(t)
	for _, name := range []string{"database.dump", "secrets.age"} {
		path := x.rewritten(t, func(path string, raw []byte) []byte {
			if path == name {
				raw[len(raw)/2] ^= 1
			}
			return raw
		})
		b, err := backup.Open(path, store.Schema())
		require.NoError(t, err)
		assert.EqualError(t, b.Check(ctx), "the backup is damaged: "+name+" is not as it was written")
		b.Close()
		path = x.rewritten(t, func(path string, raw []byte) []byte {
			if path == name {
				return nil
			}
			return raw
		})
		b, err = backup.Open(path, store.Schema())
		require.NoError(t, err)
		assert.EqualError(t, b.Check(ctx), "the backup is damaged: it holds other files than its manifest names")
		b.Close()
	}
	raw, err := os.ReadFile(x.file)
	require.NoError(t, err)
	short := filepath.Join(t.TempDir(), "short.zip")
	require.NoError(t, os.WriteFile(short, raw[:len(raw)/2], 0o600))
	_, err = backup.Open(short, store.Schema())
	assert.EqualError(t, err, "the backup is damaged: it is cut short, or no backup")
}

// Whoever writes a manifest anew, with right hashes, does not have the key file.
func TestAManifestOfSomebodyElseIsFoundOut(t *testing.T) {
	t.Parallel()
	x := newBench(t)
	path := x.rewritten(t, func(path string, raw []byte) []byte {
		if path == "manifest.json" {
			return bytes.Replace(raw, []byte(`"settings": 2`), []byte(`"settings": 3`), 1)
		}
		return raw
	})
	b, err := backup.Open(path, store.Schema())
	require.NoError(t, err)
	defer b.Close()
	require.NoError(t, b.Check(ctx))
	_, err = b.Secrets(x.secret())
	assert.EqualError(t, err, "the backup is damaged: its manifest was changed by somebody who does not have the key file")
	url := storetest.EmptyURL(t)
	assert.ErrorContains(t, b.Restore(ctx, url), "the table settings has 2 rows where the manifest says 3")
}

func TestABackupOfANewerProgramIsRefused(t *testing.T) {
	t.Parallel()
	x := newBench(t)
	_, err := backup.Open(x.file, store.Schema()-1)
	var newer *backup.NewerError
	require.ErrorAs(t, err, &newer)
	path := x.rewritten(t, func(path string, raw []byte) []byte {
		return bytes.Replace(raw, []byte(`"form": 1`), []byte(`"form": 2`), 1)
	})
	_, err = backup.Open(path, store.Schema())
	assert.ErrorAs(t, err, &newer)
}

func TestTheWrongKeyOpensNothing(t *testing.T) {
	t.Parallel()
	x := newBench(t)
	b, err := backup.Open(x.file, store.Schema())
	require.NoError(t, err)
	defer b.Close()
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for _, wrong := range []string{other.String(), "a passphrase of some length", ""} {
		_, err = b.Secrets(signin.NewSecret(wrong))
		assert.ErrorIs(t, err, sealed.ErrNotToYou)
	}
}

// full is a disk that takes so many bytes.
type full struct{ left int }

var errFull = errors.New("no space left on device")

func (f *full) Write(b []byte) (int, error) {
	if f.left -= len(b); f.left < 0 {
		return 0, errFull
	}
	return len(b), nil
}

func TestWhatCannotBeBackedUpSaysWhy(t *testing.T) {
	t.Parallel()
	url := storetest.EmptyURL(t)
	s, err := store.Open(ctx, url, filepath.Join(t.TempDir(), "key"), nil)
	require.NoError(t, err)
	s.Close()
	_, err = backup.Write(ctx, &full{left: 20 << 10}, backup.Source{Database: url})
	assert.ErrorIs(t, err, errFull)
	_, err = backup.Write(ctx, io.Discard, backup.Source{Database: strings.Replace(url, "unlatch:", "unlatch:wrong", 1)})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "wrong")
	_, err = backup.Write(ctx, io.Discard, backup.Source{Database: url, Secrets: secrets, Recipients: "age1nonsense"})
	assert.ErrorContains(t, err, "line 1")
	ending, stop := context.WithCancel(ctx)
	stop()
	_, err = backup.Write(ending, io.Discard, backup.Source{Database: url})
	assert.Error(t, err)
}
