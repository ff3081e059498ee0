package server

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store"
	"unlatch/store/backup"
	"unlatch/store/storetest"
)

// ofTheMoment is what an answer says of the server's start, or of when it was asked.
var ofTheMoment = regexp.MustCompile(`"version":"[a-z0-9]+-|"(from|to)":"[^"]+"`)

// A server on a restored database with its key answers every question as the one that was backed up did.
func TestARestoredServerAnswersTheSame(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	url, key := storetest.URL(t), filepath.Join(t.TempDir(), "key")
	p, s, _ := serveOn(t, store.Options{URL: url, KeyFile: key}, Config{})
	p.setUp()
	x := newDepot(t, p, s)
	record, still := anyRecord(t, s, x.own.camera)

	file := filepath.Join(t.TempDir(), "backup.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	_, err = backup.Write(ctx, f, backup.Source{Database: url})
	require.NoError(t, errors.Join(err, f.Close()))
	b, err := backup.Open(file, store.Schema())
	require.NoError(t, err)
	defer b.Close()
	other := storetest.EmptyURL(t)
	require.NoError(t, b.Restore(ctx, other))
	q, _, _ := serveOn(t, store.Options{URL: other, KeyFile: key}, Config{})
	q.client = p.client // with the same session
	asked := 0
	for _, r := range readingsOfAPI(t, x.own, record, still) {
		if r.method != "GET" || r.id == "events" || r.id == "live" || r.id == "get-condition" { // they do not end, or tell of the moment
			continue
		}
		asked++
		status, was, _ := p.do("GET", r.path, nil)
		again, is, _ := q.do("GET", r.path, nil)
		assert.Equal(t, status, again, "%s: %s", r.id, is)
		assert.Equal(t, ofTheMoment.ReplaceAllString(was, ""), ofTheMoment.ReplaceAllString(is, ""), r.id)
	}
	assert.Greater(t, asked, 50)
}
