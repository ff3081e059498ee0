package main

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// A pack is made, verified without a server, and opened again; what is there already is not written over, and what is wrong is said.
func TestHandoverOnTheCommandLine(t *testing.T) {
	d := newDesk(t)
	ctx := context.Background()
	site, err := d.s.Sites.Create(ctx, "Tarn Ferry", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	_, err = d.s.Devices.Sight(ctx, site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(), Kind: sighting.Camera,
		Addr: address.MustParse("192.0.2.7").Prefixes()[0].Addr(), Endpoint: "urn:uuid:7", Name: "Clock"})
	require.NoError(t, err)
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("keys"), []byte("# the firm\n"+key.Recipient().String()+"\n"), 0o600))
	require.NoError(t, os.WriteFile(at("secret"), []byte("# created: today\n"+key.String()+"\n"), 0o600))
	require.NoError(t, os.WriteFile(at("wrong"), []byte("\n\nage1nobody\n"), 0o600))

	code, _, complaint := unlatch("", "handover", "Tarn Ferry", "--out", at("pack"), "--recipients", at("wrong"))
	assert.Equal(t, 1, code)
	assert.Contains(t, complaint, "line 3")
	assert.NoDirExists(t, at("pack"))

	code, out, complaint := unlatch("", "handover", "Tarn Ferry", "--out", at("pack"), "--recipients", at("keys"), "--labels")
	require.Equal(t, 0, code, complaint)
	assert.Contains(t, out, "Version 1 of Tarn Ferry")
	for _, name := range []string{"handover.pdf", "handover.xlsx", "handover.json", "labels.pdf", "sign-ins.age", "manifest.json"} {
		assert.FileExists(t, filepath.Join(at("pack"), name))
	}
	info, err := os.Stat(filepath.Join(at("pack"), "sign-ins.age"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	left, err := filepath.Glob(at(".handover-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	code, _, complaint = unlatch("", "handover", "Tarn Ferry", "--out", at("pack"))
	assert.Equal(t, 2, code)
	assert.Contains(t, complaint, "is there already")

	code, out, complaint = unlatch("", "handover", "verify", at("pack"))
	require.Equal(t, 0, code, out+complaint)
	assert.Contains(t, out, "as they were made")
	hash := strings.TrimSpace(out[strings.Index(out, "manifest: ")+10:][:64])
	code, _, _ = unlatch("", "handover", "verify", at("pack"), "--hash", hash)
	assert.Equal(t, 0, code)
	code, out, _ = unlatch("", "handover", "verify", at("pack"), "--hash", strings.Repeat("0", 64))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "not the one that was asked for")

	// The site is here already. Once it is gone, the pack makes it again.
	code, _, complaint = unlatch("", "handover", "open", at("pack"))
	assert.Equal(t, 1, code)
	assert.Contains(t, complaint, "is here already")
	require.NoError(t, d.s.Sites.Delete(ctx, site.ID))
	code, _, complaint = unlatch("", "handover", "open", at("pack"), "--secret-file", at("keys"))
	assert.Equal(t, 1, code)
	assert.Contains(t, complaint, "does not open")
	assert.NotContains(t, complaint, key.String())
	code, out, complaint = unlatch("", "handover", "open", at("pack"), "--secret-file", at("secret"))
	require.Equal(t, 0, code, complaint)
	assert.Contains(t, out, "Tarn Ferry is a site now, with 1 devices")

	require.NoError(t, os.WriteFile(filepath.Join(at("pack"), "tables", "cameras.csv"), []byte("x"), 0o644))
	code, out, _ = unlatch("", "handover", "verify", at("pack"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "tables/cameras.csv: it was changed")
	code, _, complaint = unlatch("", "handover", "open", at("pack"))
	assert.Equal(t, 1, code)
	assert.Contains(t, complaint, "tables/cameras.csv")
}

// A cutShort is a pack of which one file ends in an error, as of a connection that is cut or a disk that is full.
type cutShort struct{ fs.FS }

func (c cutShort) Open(name string) (fs.File, error) {
	f, err := c.FS.Open(name)
	if name == "manifest.json" && err == nil {
		return noSpace{f}, nil
	}
	return f, err
}

type noSpace struct{ fs.File }

func (noSpace) Read([]byte) (int, error) { return 0, syscall.ENOSPC }

// Where the disk is full in the middle, it is said, and what was begun is no pack.
func TestAHandoverOntoAFullDisk(t *testing.T) {
	whole := fstest.MapFS{"lists/main.m3u": {Data: []byte("#EXTM3U\n")}, "manifest.json": {Data: []byte("{}")}}
	into := filepath.Join(t.TempDir(), "pack")
	assert.ErrorIs(t, unpack(cutShort{whole}, into), syscall.ENOSPC)
	code, out, complaint := unlatch("", "handover", "verify", into)
	assert.Equal(t, 1, code, out+complaint)
	require.NoError(t, unpack(whole, filepath.Join(t.TempDir(), "whole")))
}
