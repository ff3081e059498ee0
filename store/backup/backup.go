// Package backup writes a server's database, its key file and its settings into one file, checks such a file, and puts it back.
//
// A backup is a zip file, so that it can be looked into without this program: database.dump in the custom format of pg_dump, secrets.age
// with the key file and the settings, sealed, manifest.json with the hash of each and the number of rows of each table, and manifest.mac.
package backup

import (
	"archive/zip"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"unlatch/core/ground/release"
	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
	"unlatch/store/cluster"
)

// Form is the form of a backup that this program writes. It reads those of older forms too.
const Form = 1

// Names of the files in a backup.
const (
	manifestFile = "manifest.json"
	macFile      = "manifest.mac"
	dumpFile     = "database.dump"
	secretsFile  = "secrets.age"
)

// KeyFile is the name of the key file among the secrets.
const KeyFile = "key"

// macOf returns what only the holder of a key file can make of a manifest. Hashes alone show accidents; this shows a backup that somebody
// has written anew, whose database would run what they put into it.
func macOf(key, manifest []byte) []byte {
	mac := hmac.New(sha256.New, append([]byte("unlatch backup manifest\x00"), key...))
	mac.Write(manifest)
	return mac.Sum(nil)
}

// Bounds of what is read from a backup, in bytes.
const (
	mostManifest = 4 << 20
	mostSecrets  = 1 << 20
)

// A Manifest says what a backup holds.
type Manifest struct {
	Form    int              `json:"form"`
	At      time.Time        `json:"at"`
	Program release.Build    `json:"program"`
	Schema  int64            `json:"schema"` // number of the newest migration of the database
	Tables  map[string]int64 `json:"tables"` // rows of each
	Record  Record           `json:"record"`
	Sealed  *sealed.To       `json:"sealed,omitempty"` // to whom the key file is sealed; nil where it was left out
	Files   []File           `json:"files"`
}

// Rows returns the number of rows of all tables.
func (m Manifest) Rows() (n int64) {
	for _, rows := range m.Tables {
		n += rows
	}
	return n
}

// A Record is the newest line of the record of acts, from which all lines before it follow.
type Record struct {
	Lines int64  `json:"lines"`
	Hash  string `json:"hash"` // SHA-256 in hex
}

// A File is a file in a backup.
type File struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// A Source is what is backed up.
type Source struct {
	Database string            // its address
	Secrets  map[string][]byte // by name: the key file, settings; sealed to Recipients or Passphrase, and left out where both are empty
	// Recipients are public keys of age, one a line.
	Recipients string
	Passphrase signin.Secret
}

// sums copies what is written and keeps its size and hash.
type sums struct {
	to    io.Writer
	hash  hash.Hash
	bytes int64
}

func (s *sums) Write(b []byte) (int, error) {
	n, err := s.to.Write(b)
	s.hash.Write(b[:n])
	s.bytes += int64(n)
	return n, err
}

// Write writes a backup to w as the database is at one moment, while it is used. Nothing is kept on disk meanwhile.
func Write(ctx context.Context, w io.Writer, src Source) (Manifest, error) {
	m := Manifest{Form: Form, At: time.Now().UTC().Truncate(time.Second), Program: release.Running()}
	z := zip.NewWriter(w)
	if len(src.Secrets) > 0 && (src.Recipients != "" || !src.Passphrase.Empty()) {
		raw, err := json.Marshal(src.Secrets)
		if err != nil {
			return m, err
		}
		shut, to, err := sealed.Seal(raw, src.Recipients, src.Passphrase)
		if err != nil {
			return m, err
		}
		m.Sealed = &to
		if err := m.add(z, secretsFile, func(w io.Writer) error { _, err := w.Write(shut); return err }); err != nil {
			return m, err
		}
	}
	if err := m.addDatabase(ctx, z, src.Database); err != nil {
		return m, err
	}
	raw, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return m, err
	}
	for path, data := range map[string][]byte{manifestFile: raw, macFile: macOf(src.Secrets[KeyFile], raw)} {
		into, err := z.Create(path)
		if err != nil {
			return m, err
		}
		if _, err := into.Write(data); err != nil {
			return m, err
		}
	}
	return m, z.Close()
}

// add writes a file and notes it down.
func (m *Manifest) add(z *zip.Writer, path string, write func(io.Writer) error) error {
	into, err := z.CreateHeader(&zip.FileHeader{Name: path, Method: zip.Store, Modified: m.At})
	if err != nil {
		return err
	}
	s := &sums{to: into, hash: sha256.New()}
	if err := write(s); err != nil {
		return err
	}
	m.Files = append(m.Files, File{path, s.bytes, hex.EncodeToString(s.hash.Sum(nil))})
	return nil
}

// addDatabase writes the database and counts its rows, both as of one snapshot.
func (m *Manifest) addDatabase(ctx context.Context, z *zip.Writer, url string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", withoutPassword(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	var snapshot string
	if err := tx.QueryRow(ctx, "SELECT pg_export_snapshot()").Scan(&snapshot); err != nil {
		return err
	}
	if err := m.count(ctx, tx); err != nil {
		return err
	}
	return m.add(z, dumpFile, func(w io.Writer) error {
		return cluster.Run(ctx, cluster.Program{Name: "pg_dump", Database: url, Out: w,
			Args: []string{"--format=custom", "--no-owner", "--no-privileges", "--snapshot=" + snapshot}})
	})
}

// count counts the rows of each table.
func (m *Manifest) count(ctx context.Context, tx pgx.Tx) error {
	m.Tables = map[string]int64{}
	rows, err := tx.Query(ctx, `SELECT relname::text FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace`)
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		var n int64
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM "+pgx.Identifier{name}.Sanitize()).Scan(&n); err != nil {
			return err
		}
		m.Tables[name] = n
	}
	if _, chained := m.Tables["record_head"]; chained { // older versions have none
		if err := tx.QueryRow(ctx, "SELECT number, encode(hash, 'hex') FROM record_head").Scan(&m.Record.Lines, &m.Record.Hash); err != nil {
			return err
		}
	}
	return tx.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version").Scan(&m.Schema)
}

// withoutPassword returns what is wrong with a connection without the address, which may hold a password.
func withoutPassword(err error) error {
	text := err.Error()
	if i := strings.LastIndex(text, "): "); i >= 0 {
		return errors.New(text[i+3:])
	}
	return errors.New("it cannot be reached")
}
