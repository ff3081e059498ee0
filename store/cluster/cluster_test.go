package cluster

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func folder(t *testing.T) string {
	dir, err := os.MkdirTemp("", "unlatch-cluster-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return filepath.Join(dir, "pg")
}

func TestClusterKeepsItsDataOverAStart(t *testing.T) {
	ctx, dir := context.Background(), folder(t)
	c, err := Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "CREATE TABLE kept AS SELECT 7 AS n")
	require.NoError(t, err)
	conn.Close(ctx)
	c.Stop()
	_, err = pgx.Connect(ctx, c.URL)
	require.Error(t, err, "it is really down")

	c, err = Start(ctx, Options{Dir: dir, Scratch: true})
	require.NoError(t, err)
	defer c.Stop()
	conn, err = pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var n int
	require.NoError(t, conn.QueryRow(ctx, "SELECT n FROM kept").Scan(&n))
	assert.Equal(t, 7, n)
	secret, err := os.Stat(dir + ".secret")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), secret.Mode().Perm())
}

func TestBrokenFoldersAreSaidWithARemedy(t *testing.T) {
	ctx := context.Background()
	var folderErr *FolderError
	foreign := folder(t)
	require.NoError(t, os.MkdirAll(foreign, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(foreign, "holiday.txt"), nil, 0o644))
	_, err := Start(ctx, Options{Dir: foreign})
	require.ErrorAs(t, err, &folderErr)
	assert.ErrorContains(t, err, "mv "+foreign)

	damaged := folder(t)
	c, err := Start(ctx, Options{Dir: damaged, Scratch: true})
	require.NoError(t, err)
	c.Stop()
	require.NoError(t, os.RemoveAll(filepath.Join(damaged, "global")))
	_, err = Start(ctx, Options{Dir: damaged})
	require.ErrorAs(t, err, &folderErr)
	require.NoError(t, os.Remove(damaged+".secret"))
	_, err = Start(ctx, Options{Dir: damaged})
	assert.ErrorContains(t, err, "password file")
}
