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
	"io"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
	"unlatch/store/cluster"
)

// A DamagedError says what about a backup is not as it was written.
type DamagedError struct{ Problem string }

func (e *DamagedError) Error() string { return "the backup is damaged: " + e.Problem }

// A NewerError is for a backup that a newer program wrote. Nothing was changed.
type NewerError struct{ Program string }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the backup was written by a newer Unlatch (%s): restore it with that one or a newer one", e.Program)
}

// ErrNoSecrets is for a backup that holds neither key file nor settings.
var ErrNoSecrets = errors.New("the backup was written without the key file: without it the sign-ins in the database stay shut")

// ErrInUse is for a database that is not empty.
var ErrInUse = errors.New("the database is in use: it has tables already; restore into an empty one")

// A Backup is an opened backup.
type Backup struct {
	Manifest Manifest
	zip      *zip.ReadCloser
}

// Open opens a backup and reads its manifest. schema is the newest migration that this program knows. Its errors are a *DamagedError, a
// *NewerError, and those of opening a file.
func Open(path string, schema int64) (*Backup, error) {
	z, err := zip.OpenReader(path)
	if errors.Is(err, zip.ErrFormat) {
		return nil, &DamagedError{"it is cut short, or no backup"}
	}
	if err != nil {
		return nil, err
	}
	b := &Backup{zip: z}
	if err := b.readManifest(schema); err != nil {
		z.Close()
		return nil, err
	}
	return b, nil
}

func (b *Backup) readManifest(schema int64) error {
	raw, err := b.bytes(manifestFile, mostManifest)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &b.Manifest); err != nil || b.Manifest.Form < 1 {
		return &DamagedError{manifestFile + " cannot be read"}
	}
	m := &b.Manifest
	if m.Form > Form || m.Schema > schema {
		return &NewerError{m.Program.String()}
	}
	named := slices.ContainsFunc(m.Files, func(f File) bool { return f.Path == dumpFile })
	if shut := slices.ContainsFunc(m.Files, func(f File) bool { return f.Path == secretsFile }); !named || shut != (m.Sealed != nil) {
		return &DamagedError{manifestFile + " does not name what belongs to a backup"}
	}
	return nil
}

// Close closes the file.
func (b *Backup) Close() error { return b.zip.Close() }

// bytes returns a file of at most so many bytes.
func (b *Backup) bytes(path string, most int64) ([]byte, error) {
	f, err := b.zip.Open(path)
	if err != nil {
		return nil, &DamagedError{path + " is missing"}
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil || int64(len(raw)) > most {
		return nil, &DamagedError{path + " cannot be read, or is too large"}
	}
	return raw, nil
}

// Check reads every file and compares its hash with the manifest, and lets pg_restore read the table of contents of the dump. Its error is
// a *DamagedError where something is not as it was written.
func (b *Backup) Check(ctx context.Context) error {
	if len(b.zip.File) != len(b.Manifest.Files)+2 {
		return &DamagedError{"it holds other files than its manifest names"}
	}
	for _, f := range b.Manifest.Files {
		if err := b.checkFile(ctx, f); err != nil {
			return err
		}
	}
	dump, err := b.zip.Open(dumpFile)
	if err != nil {
		return &DamagedError{dumpFile + " is missing"}
	}
	defer dump.Close()
	if err := cluster.Run(ctx, cluster.Program{Name: "pg_restore", In: dump, Args: []string{"--list"}, Out: io.Discard}); err != nil {
		return fmt.Errorf("the dump cannot be read: %w", err)
	}
	return nil
}

// checkFile compares a file with what the manifest says of it.
func (b *Backup) checkFile(ctx context.Context, f File) error {
	r, err := b.zip.Open(f.Path)
	if err != nil {
		return &DamagedError{f.Path + " is missing"}
	}
	defer r.Close()
	sum := sha256.New()
	n, err := io.Copy(sum, io.LimitReader(reader{ctx, r}, f.Bytes+1))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil || n != f.Bytes || hex.EncodeToString(sum.Sum(nil)) != f.SHA256 {
		return &DamagedError{f.Path + " is not as it was written"}
	}
	return nil
}

// reader reads until a context ends.
type reader struct {
	ctx context.Context
	r   io.Reader
}

func (r reader) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(b)
}

// Secrets opens the sealed files with a secret key of age or a passphrase, and checks with the key file that the manifest was written by
// the server whose key it is. Its errors are ErrNoSecrets, a *DamagedError and those of sealed.Open.
func (b *Backup) Secrets(with signin.Secret) (map[string][]byte, error) {
	if b.Manifest.Sealed == nil {
		return nil, ErrNoSecrets
	}
	shut, err := b.bytes(secretsFile, mostSecrets)
	if err != nil {
		return nil, err
	}
	raw, err := sealed.Open(shut, with, mostSecrets)
	if err != nil {
		return nil, err
	}
	var out map[string][]byte
	if err := json.Unmarshal(raw, &out); err != nil {
		return nil, &DamagedError{"what was sealed cannot be read"}
	}
	raw, err = b.bytes(manifestFile, mostManifest)
	if err != nil {
		return nil, err
	}
	mac, err := b.bytes(macFile, mostManifest)
	if err != nil || !hmac.Equal(mac, macOf(out[KeyFile], raw)) {
		return nil, &DamagedError{"its manifest was changed by somebody who does not have the key file"}
	}
	return out, nil
}

// Unused returns ErrInUse where a database has tables.
func Unused(ctx context.Context, url string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", withoutPassword(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	var used bool
	err = conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_class WHERE relkind IN ('r', 'p') AND
		relnamespace = 'public'::regnamespace)`).Scan(&used)
	if err == nil && used {
		return ErrInUse
	}
	return err
}

// Restore puts the database of a backup into an empty one, and compares the number of rows of each table. It returns ErrInUse where the
// database is not empty; then nothing is changed. Whoever calls it has called Check.
func (b *Backup) Restore(ctx context.Context, url string) error {
	if err := Unused(ctx, url); err != nil {
		return err
	}
	dump, err := b.zip.Open(dumpFile)
	if err != nil {
		return &DamagedError{dumpFile + " is missing"}
	}
	defer dump.Close()
	// In one transaction: what fails in the middle leaves an empty database.
	if err := cluster.Run(ctx, cluster.Program{Name: "pg_restore", Database: url, In: dump,
		Args: []string{"--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction"}}); err != nil {
		return fmt.Errorf("the dump cannot be restored: %w", err)
	}
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", withoutPassword(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return b.compare(ctx, conn)
}

// compare compares the rows of each table with the manifest.
func (b *Backup) compare(ctx context.Context, conn *pgx.Conn) error {
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	var got Manifest
	if err := got.count(ctx, tx); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(b.Manifest.Tables)) {
		if got.Tables[name] != b.Manifest.Tables[name] {
			return &DamagedError{fmt.Sprintf("the table %s has %d rows where the manifest says %d", name, got.Tables[name],
				b.Manifest.Tables[name])}
		}
	}
	if len(got.Tables) != len(b.Manifest.Tables) || got.Record != b.Manifest.Record || got.Schema != b.Manifest.Schema {
		return &DamagedError{"what was restored is not what the manifest says"}
	}
	return nil
}
