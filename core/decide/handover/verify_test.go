package handover_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
	"unlatch/core/decide/words"
	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
)

// packed returns a whole pack without papers as files, by path.
func packed(t testing.TB, p handover.Pack) (map[string][]byte, handover.Manifest) {
	files, err := handover.DataFiles(context.Background(), &p, words.In("en"))
	require.NoError(t, err)
	m := handover.Manifest{Form: handover.Form, Site: p.Site.ID, Name: p.Site.Name, Number: 1, By: "Rowan", At: packtest.At, Language: "en",
		Record: handover.Record{Number: 9, Hash: strings.Repeat("0", 64)}}
	out := map[string][]byte{}
	for _, f := range files {
		out[f.Path] = f.Data
		m.Files = append(m.Files, f.Entry())
	}
	m.Complete()
	raw, err := m.Write()
	require.NoError(t, err)
	out[handover.ManifestFile] = raw
	return out, m
}

func folder(files map[string][]byte) fs.FS {
	out := fstest.MapFS{}
	for path, data := range files {
		out[path] = &fstest.MapFile{Data: data}
	}
	return out
}

func TestAPackHolds(t *testing.T) {
	pack := packtest.Sample(4)
	files, _ := packed(t, pack)
	m, back, err := handover.Open(context.Background(), folder(files))
	require.NoError(t, err)
	assert.Equal(t, 1, m.Number)
	assert.Equal(t, pack.Cameras[2].Title, back.Cameras[2].Title)
}

// Whichever file is changed, cut short, taken out or added, it is found, and told by its path.
func TestEachTamperingIsFound(t *testing.T) {
	files, m := packed(t, packtest.Sample(3))
	require.Greater(t, len(files), 10)
	find := func(changed map[string][]byte) ([]handover.Fault, error) {
		_, faults, err := handover.Verify(context.Background(), folder(changed))
		return faults, err
	}
	faults, err := find(files)
	require.NoError(t, err)
	require.Empty(t, faults)
	with := func(path string, data []byte) map[string][]byte {
		out := map[string][]byte{}
		for k, v := range files {
			out[k] = v
		}
		if out[path] = data; data == nil {
			delete(out, path)
		}
		return out
	}
	for path, data := range files {
		flipped := bytes.Clone(data)
		flipped[len(flipped)/2] ^= 1
		for what, data := range map[string][]byte{"changed": flipped, "cut": data[:len(data)/2], "longer": append(bytes.Clone(data), 'x'),
			"gone": nil} {
			faults, err := find(with(path, data))
			if path == handover.ManifestFile {
				assert.Error(t, err, what)
				continue
			}
			require.NoError(t, err, "%s %s", path, what)
			require.Len(t, faults, 1, "%s %s", path, what)
			assert.Equal(t, path, faults[0].Path, what)
		}
	}
	faults, err = find(with("tables/more.csv", []byte("x")))
	require.NoError(t, err)
	assert.Equal(t, []handover.Fault{{Path: "tables/more.csv", Problem: "it was added to the pack"}}, faults)

	// A manifest that was written anew for a changed file has another hash: that of the record and of the sign-off page.
	other := packtest.Sample(3)
	other.Cameras[0].Address = "192.0.2.66"
	_, forged := packed(t, other)
	assert.NotEqual(t, m.Hash, forged.Hash)
	assert.NotEqual(t, m.Content, forged.Content)
}

func TestAPackOfANewerVersionIsTurnedAway(t *testing.T) {
	files, _ := packed(t, packtest.Sample(1))
	files[handover.ManifestFile] = bytes.Replace(files[handover.ManifestFile], []byte(`"form": 1`), []byte(`"form": 7`), 1)
	_, _, err := handover.Open(context.Background(), folder(files))
	assert.EqualError(t, err, "this pack has form 7, and this Unlatch reads forms up to 1")
}

func zipped(t *testing.T, write func(*zip.Writer)) *bytes.Reader {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	write(z)
	require.NoError(t, z.Close())
	return bytes.NewReader(b.Bytes())
}

// A zip file that leads out of itself, or says that it is small and is not, is turned away before anything of it is kept.
func TestHostileZips(t *testing.T) {
	plain := func(name string) func(*zip.Writer) {
		return func(z *zip.Writer) {
			w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Store})
			require.NoError(t, err)
			w.Write(nil)
		}
	}
	huge := func(z *zip.Writer) { // ten gigabytes of nothing take ten megabytes
		w, err := z.Create(handover.DataFile)
		require.NoError(t, err)
		_, err = io.CopyN(w, zeros{}, 200<<20)
		require.NoError(t, err)
	}
	link := func(z *zip.Writer) {
		h := &zip.FileHeader{Name: "handover.json"}
		h.SetMode(fs.ModeSymlink | 0o777)
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		io.WriteString(w, "/etc/passwd")
	}
	twice := func(z *zip.Writer) { plain("a.txt")(z); plain("a.txt")(z) }
	for name, c := range map[string]struct {
		write func(*zip.Writer)
		want  string
	}{
		"above": {plain("../outside.txt"), "leads out of the pack"}, "absolute": {plain("/etc/cron.d/x"), "leads out of the pack"},
		"back-slash": {plain(`..\outside`), "leads out of the pack"}, "drive": {plain(`C:/outside`), "leads out of the pack"},
		"inside and out": {plain("a/../../b"), "leads out of the pack"}, "huge": {huge, "too large"}, "link": {link, "no plain file"},
		"twice": {twice, "there twice"},
	} {
		r := zipped(t, c.write)
		_, err := handover.Zip(r, r.Size())
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.want, name)
	}
	cut := zipped(t, plain("a.txt"))
	half := make([]byte, cut.Size()/2)
	cut.Read(half)
	_, err := handover.Zip(bytes.NewReader(half), int64(len(half)))
	assert.ErrorContains(t, err, "cut short")

	// One that lies about a size is read no further than the manifest says.
	files, _ := packed(t, packtest.Sample(1))
	liar := zipped(t, func(z *zip.Writer) {
		for path, data := range files {
			w, err := z.Create(path)
			require.NoError(t, err)
			w.Write(data)
			if path == handover.DataFile {
				io.CopyN(w, zeros{}, 60<<20)
			}
		}
	})
	dir, err := handover.Zip(liar, liar.Size())
	require.NoError(t, err)
	_, _, err = handover.Open(context.Background(), dir)
	assert.ErrorContains(t, err, "longer than it was")
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// Text from outside is text in every table: what looks like a formula is none, and nothing is lost.
func TestTextFromOutsideIsNoFormula(t *testing.T) {
	pack := packtest.Sample(8)
	odd := []string{`=HYPERLINK("http://192.0.2.66","x")`, "+1+1", "-2", "@SUM(A1)", "駅前ホーム", "שער צפוני", "Gleis 🚂", strings.Repeat("x", 300)}
	for i, name := range odd {
		pack.Cameras[i].Title = name
	}
	files, _ := packed(t, pack)
	book, err := excelize.OpenReader(bytes.NewReader(files[handover.TablesFile]))
	require.NoError(t, err)
	defer book.Close()
	rows, err := book.GetRows("Cameras")
	require.NoError(t, err)
	require.Equal(t, "Name", rows[0][0])
	for i, name := range odd {
		cell := fmt.Sprintf("A%d", i+2)
		value, err := book.GetCellValue("Cameras", cell)
		require.NoError(t, err)
		assert.Equal(t, name, value)
		formula, err := book.GetCellFormula("Cameras", cell)
		require.NoError(t, err)
		assert.Empty(t, formula)
	}
	kind, err := book.GetCellType("Streams", "F2") // the width, in pixels
	require.NoError(t, err)
	assert.Contains(t, []excelize.CellType{excelize.CellTypeNumber, excelize.CellTypeUnset}, kind, "a number is a number")

	list, err := csv.NewReader(bytes.NewReader(files["tables/cameras.csv"])).ReadAll()
	require.NoError(t, err)
	for i := range odd[:4] {
		assert.NotContains(t, "=+-@", list[i+1][0][:1], "a spreadsheet would take it for a formula")
	}
	assert.Equal(t, "駅前ホーム", list[5][0])
	assert.Contains(t, string(files["lists/main.m3u"]), "rtsp://192.0.2.10:554/media/1/main")
	assert.Contains(t, string(files["lists/sub.xspf"]), "<location>rtsp://192.0.2.10:554/media/1/sub</location>")
}

// Two packs of one state are alike byte for byte, and none holds a time of making.
func TestDataFilesAreMadeTheSameTwice(t *testing.T) {
	first, a := packed(t, packtest.Sample(20))
	second, b := packed(t, packtest.Sample(20))
	for path := range first {
		assert.True(t, bytes.Equal(first[path], second[path]), path)
	}
	assert.Equal(t, a.Content, b.Content)
}

func TestTheSealedSignInsOpenForWhomTheyAreSealed(t *testing.T) {
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	list := []handover.SealedSignIn{{ID: packtest.ID("key"), Label: "Station cameras", User: "admin", Secret: signin.NewSecret("brass-kettle"),
		For: []string{"Platform clock at 192.0.2.10"}}}
	raw, how, err := handover.Seal("Tarn Ferry", list, "# the firm\n"+key.Recipient().String()+"\r\n", signin.Secret{})
	require.NoError(t, err)
	assert.Equal(t, handover.SealedTo{Recipients: []string{key.Recipient().String()}, SignIns: 1}, how)
	assert.NotContains(t, string(raw), "brass-kettle")
	back, err := handover.Unseal(raw, signin.NewSecret(key.String()))
	require.NoError(t, err)
	assert.Equal(t, list, back)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for _, wrong := range []string{other.String(), "some passphrase", "", "AGE-SECRET-KEY-1"} {
		_, err = handover.Unseal(raw, signin.NewSecret(wrong))
		assert.ErrorIs(t, err, sealed.ErrNotToYou)
	}

	pass := signin.NewSecret("a passphrase of some length")
	raw, how, err = handover.Seal("Tarn Ferry", list, "", pass)
	require.NoError(t, err)
	assert.True(t, how.Passphrase)
	back, err = handover.Unseal(raw, pass)
	require.NoError(t, err)
	assert.Equal(t, "brass-kettle", back[0].Secret.Reveal())
	_, _, err = handover.Seal("Tarn Ferry", list, "", signin.NewSecret("short"))
	assert.ErrorIs(t, err, sealed.ErrWeakPassphrase)
	_, _, err = handover.Seal("Tarn Ferry", list, "", signin.Secret{})
	assert.Error(t, err)
}

func TestASignOffHolds(t *testing.T) {
	_, m := packed(t, packtest.Sample(1))
	s, err := handover.Sign(m.Hash, "  Ada  Marsh ", "ada", packtest.At, []handover.Stroke{{0.1, 0.2, 0.3, 0.4}})
	require.NoError(t, err)
	raw, err := s.Write()
	require.NoError(t, err)
	back, err := handover.ReadSignOff(raw, m.Hash)
	require.NoError(t, err)
	assert.Equal(t, s, back)
	_, err = handover.ReadSignOff(bytes.Replace(raw, []byte("Ada"), []byte("Bob"), 1), m.Hash)
	assert.EqualError(t, err, "it was changed after it was signed")
	_, err = handover.ReadSignOff(raw, strings.Repeat("0", 64))
	assert.EqualError(t, err, "another version of the pack was signed")
	for _, bad := range [][]handover.Stroke{nil, {{0.1}}, {{0.1, 1.5, 0.2, 0.2}}, {{0.1, 0.1}}} {
		_, err = handover.Sign(m.Hash, "Ada", "ada", packtest.At, bad)
		assert.Error(t, err, "%v", bad)
	}
}

// What changed between two packs is told by device and field; what did not change is not in it.
func TestCompare(t *testing.T) {
	was, is := packtest.Sample(4), packtest.Sample(4)
	is.Cameras[1].Name = "Footbridge west"
	is.State.Devices[2].Facts[1].Value = "1.5.0"
	is.State.Devices = is.State.Devices[:3]
	var told []string
	for _, c := range handover.Compare(&was, &is) {
		line := c.Title + " " + string(c.Is)
		for _, f := range c.Fields {
			line += " " + f.String()
		}
		told = append(told, line)
	}
	assert.Equal(t, []string{"Crossing north gone", "Footbridge changed Name: was Footbridge, is Footbridge west.",
		"Ticket window changed Firmware: was 1.4.2, is 1.5.0."}, told)
}

func TestPaths(t *testing.T) {
	for _, good := range []string{"handover.json", "pictures/cameras/1.jpg"} {
		assert.NoError(t, handover.CheckPath(good))
	}
	for _, bad := range []string{"", "..", "../x", "/x", `a\b`, "a//b", "a/./b", "x\n", strings.Repeat("x", 301), "C:x"} {
		assert.Error(t, handover.CheckPath(bad), "%q", bad)
	}
}

func FuzzZip(f *testing.F) {
	f.Add([]byte("PK\x05\x06"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		dir, err := handover.Zip(bytes.NewReader(raw), int64(len(raw)))
		if err == nil {
			handover.Verify(context.Background(), dir)
		}
	})
}

func FuzzReadManifest(f *testing.F) {
	_, m := packed(f, packtest.Sample(1))
	raw, _ := m.Write()
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		if m, err := handover.ReadManifest(raw); err == nil {
			_, err = json.Marshal(m)
			assert.NoError(t, err)
		}
	})
}

func ExampleVerify() {
	files := fstest.MapFS{handover.ManifestFile: &fstest.MapFile{Data: []byte(`{"form": 1, "files"`)}}
	_, _, err := handover.Verify(context.Background(), files)
	fmt.Println(err)
	// Output: manifest.json: it is no JSON, or is cut short
}
