package jobs_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"filippo.io/age"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/ground/signin"
	"unlatch/jobs"
	"unlatch/store"
)

// packBench is a site with one camera that was opened, and a person.
func packBench(t *testing.T, net string) (*bench, act.Person, jobs.Desk) {
	b := keyed(t, lone, net, [3]string{"Fitter", "fitter", "brass-lamp-41"})
	person, err := b.s.People.CreateFirst(ctx, "Owner Olive", "x")
	require.NoError(t, err)
	b.wait(b.open(b.ids("11")))
	return b, person, jobs.Desk{Store: b.s, Queue: b.q}
}

// makes makes a version and returns it with its files.
func (b *bench) makes(desk jobs.Desk, by act.Person, a act.MakeHandover) (store.HandoverVersion, fstest.MapFS) {
	b.t.Helper()
	a.Site, a.ID = b.site.ID, uuid.New()
	done, err := desk.Do(ctx, by, a)
	require.NoError(b.t, err)
	b.wait(*done.Run, nil)
	return b.version(a.ID)
}

func (b *bench) version(id uuid.UUID) (store.HandoverVersion, fstest.MapFS) {
	b.t.Helper()
	v, err := b.s.Handovers.Get(ctx, b.site.ID, id)
	require.NoError(b.t, err)
	require.True(b.t, v.Made, v.Failed)
	files := fstest.MapFS{}
	for _, e := range append(v.Files, handover.FileEntry{Path: handover.ManifestFile}) {
		f, err := b.s.Handovers.File(ctx, b.site.ID, id, e.Path)
		require.NoError(b.t, err, e.Path)
		files[e.Path] = &fstest.MapFile{Data: f.Data}
	}
	return v, files
}

func TestAHandoverPackOfACamera(t *testing.T) {
	t.Parallel()
	b, person, desk := packBench(t, "127.42.90")
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	form := act.HandoverForm{Recipients: key.Recipient().String(), Base: "https://unlatch.example"}
	v, files := b.makes(desk, person, act.MakeHandover{HandoverForm: form})
	m, pack, err := handover.Open(ctx, files)
	require.NoError(t, err)
	assert.Equal(t, 1, m.Number)
	assert.Equal(t, v.Hash, m.Hash)
	require.Len(t, pack.Cameras, 1)
	c := pack.Cameras[0]
	assert.Equal(t, "127.42.90.11", c.Address)
	assert.Equal(t, "fitter", c.SignIn.User)
	require.NotEmpty(t, c.Streams)
	require.NotNil(t, c.Streams[0].Measured)
	assert.Equal(t, 160, c.Streams[0].Measured.Width)
	assert.Contains(t, files, c.Picture)

	// No secret stands in any file, and what is sealed opens with the age tool of anyone.
	for path, f := range files {
		assert.NotContains(t, string(f.Data), "brass-lamp-41", path)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), []byte(key.String()+"\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sealed"), files[handover.SealedFile].Data, 0o600))
	out, err := exec.Command("age", "--decrypt", "--identity", filepath.Join(dir, "key"), filepath.Join(dir, "sealed")).Output()
	require.NoError(t, err)
	var opened struct {
		SignIns []struct {
			User, Password string
			For            []string
		} `json:"sign_ins"`
	}
	require.NoError(t, json.Unmarshal(out, &opened))
	require.Len(t, opened.SignIns, 1)
	assert.Equal(t, "brass-lamp-41", opened.SignIns[0].Password)
	assert.Contains(t, opened.SignIns[0].For[0], "127.42.90.11")

	// The record says who may open it, and that it was made, with the hash of its manifest.
	lines, err := b.s.Record.List(ctx, store.LineFilter{Site: b.site.ID, Limit: 20})
	require.NoError(t, err)
	var told []string
	for _, l := range lines {
		told = append(told, string(l.Act)+": "+l.After)
	}
	assert.Contains(t, told, "make-handover: sign-ins sealed to "+key.Recipient().String())
	assert.Contains(t, told, "handover-made: SHA-256 of its manifest "+m.Hash+"; 1 sign-ins sealed")
	assert.NotContains(t, strings.Join(told, "\n")+b.log.String(), "brass-lamp-41")
}

// Two packs of one state have the same content, also where they are begun at once; one that a killed worker left in the middle is made
// anew, and one that was made is not changed any more.
func TestHandoverPacksBesideEachOther(t *testing.T) {
	t.Parallel()
	b, person, desk := packBench(t, "127.42.91")
	var ids []uuid.UUID
	var runs []store.Run
	for range 2 {
		a := act.MakeHandover{Site: b.site.ID, ID: uuid.New(), Passphrase: signin.NewSecret("a passphrase of some length")}
		done, err := desk.Do(ctx, person, a)
		require.NoError(t, err)
		ids, runs = append(ids, a.ID), append(runs, *done.Run)
	}
	for _, r := range runs {
		b.wait(r, nil)
	}
	first, files := b.version(ids[0])
	second, again := b.version(ids[1])
	assert.ElementsMatch(t, []int{1, 2}, []int{first.Number, second.Number})
	a, _, err := handover.Open(ctx, files)
	require.NoError(t, err)
	z, _, err := handover.Open(ctx, again)
	require.NoError(t, err)
	if !assert.Equal(t, a.Content, z.Content) {
		for path, f := range files {
			if again[path] == nil || !bytes.Equal(f.Data, again[path].Data) {
				t.Log("another: ", path)
			}
		}
		assert.Equal(t, string(files[handover.DataFile].Data), string(again[handover.DataFile].Data))
	}
	secret, err := b.s.Handovers.Passphrase(ctx, ids[0])
	require.NoError(t, err)
	assert.True(t, secret.Empty(), "the passphrase is kept no longer than it is needed")

	err = b.s.Handovers.PutFiles(ctx, ids[0], handover.File{Path: handover.DataFile, Data: []byte("{}")})
	assert.Error(t, err, "a file is there already")
	err = b.s.Handovers.Complete(ctx, act.HandoverMade{Site: b.site.ID, ID: ids[0], Manifest: z})
	assert.Error(t, err, "a version is not changed")

	half := act.MakeHandover{Site: b.site.ID, ID: uuid.New(), HandoverForm: act.HandoverForm{Language: "de"}}
	require.NoError(t, b.s.Handovers.Begin(ctx, person, half))
	require.NoError(t, b.s.Handovers.PutFiles(ctx, half.ID, handover.File{Path: handover.DataFile, Type: "x", Data: []byte("half")}))
	out, err := desk.Weigh(ctx, person, half)
	require.NoError(t, err)
	out.Work.Site.Pack.Version = half.ID
	b.wait(b.run(*out.Work))
	_, whole := b.version(half.ID)
	_, _, err = handover.Open(ctx, whole)
	assert.NoError(t, err)
}

// A pack that cannot be made says why, and leaves no file behind.
func TestAHandoverPackThatCannotBeMade(t *testing.T) {
	t.Parallel()
	b, person, desk := packBench(t, "127.42.92")
	other, err := b.s.People.Get(ctx, person.ID)
	require.NoError(t, err)
	other.ID = uuid.New() // an account that is gone by the time
	a := act.MakeHandover{Site: b.site.ID, ID: uuid.New()}
	require.NoError(t, b.s.Handovers.Begin(ctx, other, a))
	out, err := desk.Weigh(ctx, person, a)
	require.NoError(t, err)
	b.ended(b.run(*out.Work))
	v, err := b.s.Handovers.Get(ctx, b.site.ID, a.ID)
	require.NoError(t, err)
	assert.False(t, v.Made)
	assert.Contains(t, v.Failed, "is not there any more")
	var n int
	require.NoError(t, b.s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM handover_files WHERE handover_id = $1", a.ID).Scan(&n))
	assert.Zero(t, n)

	for what, refused := range map[string]act.MakeHandover{
		"bad_recipients": {HandoverForm: act.HandoverForm{Recipients: "age1\nwhat\n"}},
		"bad_seal":       {Passphrase: signin.NewSecret("short")},
	} {
		refused.Site, refused.ID = b.site.ID, uuid.New()
		_, err := desk.Do(ctx, person, refused)
		var r *act.Refusal
		require.ErrorAs(t, err, &r, what)
		assert.Equal(t, what, r.Cause)
	}
}
