package store_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store"
	"unlatch/store/cluster"
	"unlatch/store/storetest"
)

var update = flag.Bool("update", false, "write the dump of the newest schema")

// dumpPath is where the schema as of a migration is kept. A dump is never made anew: it is what databases out there look like.
func dumpPath(version int64) string {
	return filepath.Join("testdata", "schemas", fmt.Sprintf("%05d.sql.gz", version))
}

// restless are lines of pg_dump that differ from one call, or from one version of PostgreSQL, to the next.
var restless = regexp.MustCompile(`(?m)^(--.*|\\(un)?restrict .*|SET .*|SELECT pg_catalog\.set_config.*|)\n`)

// schemaOf returns the schema of a database as pg_dump has it.
func schemaOf(t *testing.T, url string) string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, cluster.Run(ctx, cluster.Program{Name: "pg_dump", Database: url, Out: &out,
		Args: []string{"--schema-only", "--no-owner", "--no-privileges"}}))
	return restless.ReplaceAllString(out.String(), "")
}

// migrateTo makes the tables of a version in an empty database.
func migrateTo(t *testing.T, url string, version int64) {
	t.Helper()
	db, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, db.DB, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = p.UpTo(ctx, version)
	require.NoError(t, err)
}

// restoreDump makes the tables of a version from its dump.
func restoreDump(t *testing.T, url string, version int64) {
	t.Helper()
	raw, err := os.ReadFile(dumpPath(version))
	require.NoError(t, err, "no dump of version %d is kept: go test ./store -run TestSchemas -update", version)
	in, err := gzip.NewReader(bytes.NewReader(raw))
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	// A dump has functions before the tables that they read.
	_, err = conn.Exec(ctx, "SET check_function_bodies = false")
	require.NoError(t, err)
	_, err = conn.PgConn().Exec(ctx, strings.Replace(string(text), "CREATE SCHEMA public;", "", 1)).ReadAll()
	require.NoError(t, err)
	for v := range version + 1 {
		_, err = conn.Exec(ctx, "INSERT INTO goose_db_version (version_id, is_applied) VALUES ($1, true)", v)
		require.NoError(t, err)
	}
}

// The schema of each version stays as it was: whoever changes an old migration has databases out there that differ from new ones.
func TestSchemasStayAsTheyWere(t *testing.T) {
	t.Parallel()
	url := storetest.EmptyURL(t)
	for version := int64(1); version <= store.Schema(); version++ {
		migrateTo(t, url, version)
		now := schemaOf(t, url)
		if _, err := os.Stat(dumpPath(version)); *update && os.IsNotExist(err) {
			var out bytes.Buffer
			z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
			require.NoError(t, err)
			io.WriteString(z, now)
			require.NoError(t, z.Close())
			require.NoError(t, os.MkdirAll(filepath.Dir(dumpPath(version)), 0o755))
			require.NoError(t, os.WriteFile(dumpPath(version), out.Bytes(), 0o644))
		}
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			t.Parallel()
			kept := storetest.EmptyURL(t)
			restoreDump(t, kept, version)
			assert.Equal(t, schemaOf(t, kept), now)
		})
	}
}

// A column of a table, as a test fills it.
type column struct {
	Table    string  `db:"tab"`
	Name     string  `db:"name"`
	Type     string  `db:"type"`
	Nullable bool    `db:"nullable"`
	Defaults bool    `db:"defaults"`
	Refers   *string `db:"refers"` // the table that it refers to
	To       *string `db:"refers_to"`
}

// fill puts one row into each table that takes one, whatever its columns are, and returns which tables those are.
func fill(t *testing.T, url string) (filled []string) {
	t.Helper()
	db, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer db.Close()
	var columns []column
	require.NoError(t, db.Select(&columns, `SELECT c.relname AS tab, a.attname AS name, format_type(a.atttypid, NULL) AS type,
		NOT a.attnotnull AS nullable, a.atthasdef OR a.attidentity <> '' OR a.attgenerated <> '' AS defaults,
		f.confrelid::regclass::text AS refers, ref.attname AS refers_to
		FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
		LEFT JOIN pg_constraint f ON f.conrelid = c.oid AND f.contype = 'f' AND a.attnum = ANY(f.conkey)
		LEFT JOIN pg_attribute ref ON ref.attrelid = f.confrelid AND ref.attnum = f.confkey[array_position(f.conkey, a.attnum)]
		WHERE c.relkind = 'r' AND c.relnamespace = 'public'::regnamespace AND c.relname NOT LIKE 'goose%' ORDER BY 1, a.attnum`))
	tables := map[string][]column{}
	for _, c := range columns {
		tables[c.Table] = append(tables[c.Table], c)
	}
	for again := true; again; { // what refers to another table waits for it
		again = false
		for name, of := range tables {
			if insert(db, name, of) {
				filled, again = append(filled, name), true
				delete(tables, name)
			}
		}
	}
	return filled
}

// insert tries to put a row into a table.
func insert(db *sqlx.DB, table string, of []column) bool {
	var names, values []string
	for _, c := range of {
		if c.Defaults && c.Refers == nil {
			continue
		}
		value := map[string]string{"uuid": "gen_random_uuid()", "text": "'oak'", "bytea": "'\\x00ff'", "jsonb": "'{}'", "integer": "1",
			"smallint": "1", "bigint": "1", "boolean": "true", "timestamp with time zone": "now()", "inet": "'192.0.2.7'",
			"double precision": "0.5", "real": "0.5", "date": "now()", "text[]": "'{oak}'", "uuid[]": "'{}'", "cidr": "'192.0.2.0/24'"}[c.Type]
		if c.Refers != nil {
			value = fmt.Sprintf("(SELECT %s FROM %s LIMIT 1)", *c.To, *c.Refers)
		}
		if value == "" {
			if c.Nullable {
				continue
			}
			value = "DEFAULT"
		}
		names, values = append(names, c.Name), append(values, value)
	}
	if len(names) == 0 {
		return false
	}
	_, err := db.Exec(fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(names, ", "), strings.Join(values, ", ")))
	return err == nil
}

// counts returns how many rows each of some tables has; -1 where there is no such table any more.
func counts(t *testing.T, url string, tables []string) map[string]int {
	t.Helper()
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	out := map[string]int{}
	for _, name := range tables {
		n := -1
		conn.QueryRow(ctx, "SELECT count(*) FROM "+name).Scan(&n)
		out[name] = n
	}
	return out
}

// A database of each older version is brought up to date with what is in it, and looks afterwards as one that was made new.
func TestEveryOlderVersionIsUpdated(t *testing.T) {
	t.Parallel()
	fresh := storetest.EmptyURL(t)
	s, err := store.Open(ctx, fresh, filepath.Join(t.TempDir(), "key"), nil)
	require.NoError(t, err)
	s.Close()
	want := schemaOf(t, fresh)
	for version := int64(1); version < store.Schema(); version++ {
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			t.Parallel()
			url := storetest.EmptyURL(t)
			restoreDump(t, url, version)
			filled := fill(t, url)
			for _, name := range []string{"sites", "devices", "runs", "evidence", "stills", "sign_ins", "people", "sessions"} {
				assert.Contains(t, filled, name, "the test fills less than it should: %v", filled)
			}
			key := filepath.Join(t.TempDir(), "key")
			require.NoError(t, os.WriteFile(key, bytes.Repeat([]byte{7}, 32), 0o600))
			before := counts(t, url, filled)
			var told store.Update
			s, err := store.OpenWith(ctx, store.Options{URL: url, KeyFile: key,
				BeforeUpdate: func(_ context.Context, u store.Update) error { told = u; return nil }})
			require.NoError(t, err)
			s.Close()
			assert.Equal(t, version, told.From)
			assert.Equal(t, store.Schema(), told.To)
			assert.Positive(t, told.Bytes)
			assert.Positive(t, told.About)
			for name, n := range counts(t, url, filled) {
				if n >= 0 {
					assert.GreaterOrEqual(t, n, before[name], "rows of %s", name)
				}
			}
			assert.Equal(t, want, schemaOf(t, url))
		})
	}
}

// An update that is refused changes nothing, and one that is cut off in the middle goes on.
func TestAnUpdateThatIsCutOffGoesOn(t *testing.T) {
	t.Parallel()
	url, key := storetest.EmptyURL(t), filepath.Join(t.TempDir(), "key")
	restoreDump(t, url, 12)
	before := schemaOf(t, url)
	no := errors.New("there is no room for a backup")
	_, err := store.OpenWith(ctx, store.Options{URL: url, KeyFile: key, BeforeUpdate: func(context.Context, store.Update) error { return no }})
	assert.ErrorIs(t, err, no)
	assert.Equal(t, before, schemaOf(t, url))

	cut := 0
	for opened := false; !opened; {
		require.Less(t, cut, 60, "it never comes to its end")
		killed, kill := context.WithCancel(ctx)
		var statements atomic.Int64
		most := int64(8 + 7*cut)
		s, err := store.OpenWith(killed, store.Options{URL: url, KeyFile: key, Trace: func(context.Context, *pgx.Conn, string) {
			if statements.Add(1) == most {
				kill()
			}
		}})
		kill()
		if opened = err == nil; opened {
			s.Close()
		} else {
			cut++
		}
	}
	assert.Greater(t, cut, 3, "it was cut off in the middle")
	fresh := storetest.Open(t)
	assert.Equal(t, schemaOf(t, fresh.Pool.Config().ConnString()), schemaOf(t, url))
}

// Two servers that start on one database: one brings it up to date, and the other serves.
func TestTwoServersOnOneDatabase(t *testing.T) {
	t.Parallel()
	url, key := storetest.EmptyURL(t), filepath.Join(t.TempDir(), "key")
	restoreDump(t, url, 20)
	var updates atomic.Int64
	var both sync.WaitGroup
	for range 2 {
		both.Go(func() {
			s, err := store.OpenWith(ctx, store.Options{URL: url, KeyFile: key, BeforeUpdate: func(context.Context, store.Update) error {
				updates.Add(1)
				time.Sleep(100 * time.Millisecond)
				return nil
			}})
			if assert.NoError(t, err) {
				_, err = s.Sites.List(ctx)
				assert.NoError(t, err)
				s.Close()
			}
		})
	}
	both.Wait()
	assert.EqualValues(t, 1, updates.Load())
}

// A role that may not make tables is told what to do.
func TestARoleWithoutRights(t *testing.T) {
	t.Parallel()
	url := storetest.EmptyURL(t)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "DROP ROLE IF EXISTS guest; CREATE ROLE guest LOGIN PASSWORD 'birch-gate'")
	require.NoError(t, err)
	at := strings.Replace(url, url[strings.Index(url, "//")+2:strings.Index(url, "@")], "guest:birch-gate", 1)
	_, err = store.Open(ctx, at, filepath.Join(t.TempDir(), "key"), slog.New(slog.DiscardHandler))
	var rights *store.RightsError
	require.ErrorAs(t, err, &rights)
	assert.Contains(t, err.Error(), "ALTER DATABASE")
	assert.NotContains(t, err.Error(), "birch")
}
