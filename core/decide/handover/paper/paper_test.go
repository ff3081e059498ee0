package paper_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/words"
)

// sample returns a paper of n cameras with pictures.
func sample(n int, language string) paper.Paper {
	pack := packtest.Sample(n)
	p := paper.Paper{Pack: &pack, Size: paper.A4, Language: words.In(language), Base: "https://unlatch.tarnside.example",
		Firm: paper.Firm{Name: "Tarnside Signals", Mark: &paper.Picture{Name: "mark", Data: packtest.PNG(300, 100), Width: 300, Height: 100}},
		Manifest: handover.Manifest{Number: 3, By: "Rowan", At: packtest.At, Content: strings.Repeat("ab12", 16),
			Baseline: &handover.AgreedState{Name: "Handed over", By: "Rowan", At: packtest.At}}, Pictures: map[string]*paper.Picture{}}
	for i, c := range pack.Cameras {
		if c.Picture != "" && i != 1 {
			p.Pictures[c.Picture] = &paper.Picture{Name: c.Picture, Data: packtest.JPEG(i, 320, 180), Width: 320, Height: 180}
		}
		for _, x := range c.Placements {
			p.Pictures[x.Picture] = &paper.Picture{Name: x.Picture, Data: packtest.JPEG(i+7, 160, 90), Width: 160, Height: 90}
		}
	}
	for _, x := range pack.SitePlans {
		p.Pictures[x.Picture] = &paper.Picture{Name: x.Picture, Data: packtest.PNG(x.Width, x.Height), Width: x.Width, Height: x.Height}
	}
	return p
}

func written(t *testing.T, p paper.Paper) []byte {
	var b bytes.Buffer
	require.NoError(t, p.Write(&b))
	return b.Bytes()
}

// textOf returns the text of a PDF, by a reader that has nothing to do with the writer.
func textOf(t *testing.T, pdf []byte) string {
	file := filepath.Join(t.TempDir(), "paper.pdf")
	require.NoError(t, os.WriteFile(file, pdf, 0o600))
	if keep := os.Getenv("UNLATCH_KEEP_PAPER"); keep != "" {
		os.WriteFile(filepath.Join(keep, strings.ReplaceAll(t.Name(), "/", "-")+".pdf"), pdf, 0o600)
	}
	out, err := exec.Command("pdftotext", "-layout", file, "-").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func TestTheHandoverSaysWhatIsInThePack(t *testing.T) {
	for _, language := range words.Languages {
		l := words.In(language)
		text := textOf(t, written(t, sample(5, language)))
		for _, want := range []string{"Tarn Ferry", "Tarnside Signals", l.Text("paper.version", "n", 3), l.Text("paper.contents"),
			l.Text("paper.network"), "Platform clock", "192.0.2.10", "02:00:5e:00:00:00", "CV-00000", "rtsp://192.0.2.10:554/media/1/main",
			l.Text("paper.no_picture"), "cameras.tarnside.example", "20000", "it hangs on a mast outside the plan",
			l.Text("finding.clock_wrong.title.one", "thing", "Platform clock"), l.Text("paper.sign_off"), strings.Repeat("ab12", 16)} {
			assert.Contains(t, flat(text), flat(want), language)
		}
	}
}

// flat makes one line of a text: papers break lines where they have to.
func flat(s string) string { return strings.Join(strings.Fields(s), " ") }

// Made twice, a paper is the same byte for byte; made at another time it differs.
func TestAPaperIsMadeTheSameTwice(t *testing.T) {
	first := written(t, sample(12, "en"))
	assert.True(t, bytes.Equal(first, written(t, sample(12, "en"))), "made twice, it differs")
	later := sample(12, "en")
	later.Manifest.At = later.Manifest.At.Add(time.Hour)
	assert.False(t, bytes.Equal(first, written(t, later)))
}

// Names of any script and length stay legible, and none spoils the paper.
func TestOddNamesStayLegible(t *testing.T) {
	p := sample(9, "en")
	odd := []struct{ name, want string }{
		{"=HYPERLINK(\"http://192.0.2.66\")", "=HYPERLINK("},
		{"駅前ホーム", "駅前ホーム"},
		{"Вокзал перрон", "Вокзал перрон"},
		{"שער צפוני", ""}, // drawn from right to left; how a reader puts it is the reader's
		{"Gleis 🚂 drei", "[steam locomotive]"},
		{strings.Repeat("long name ", 30), "long name long name"},
		{"two\nlines", "two lines"},
		{"مدخل المحطة", ""},
		{strings.Repeat("W", 300), "WWWW"},
	}
	for i, o := range odd {
		p.Pack.Cameras[i].Title = o.name
	}
	text := flat(textOf(t, written(t, p)))
	for _, o := range odd {
		assert.Contains(t, text, o.want)
	}
}

func TestLettersAreAsGood(t *testing.T) {
	p := sample(2, "en")
	p.Size = paper.Letter
	file := filepath.Join(t.TempDir(), "letter.pdf")
	require.NoError(t, os.WriteFile(file, written(t, p), 0o600))
	out, err := exec.Command("pdfinfo", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "612 x 792 pts (letter)")
}

func TestLabels(t *testing.T) {
	p := sample(30, "en")
	for _, on := range paper.LabelSheets {
		require.NoError(t, on.Check(), on.Name)
		var b bytes.Buffer
		require.NoError(t, p.WriteLabels(&b, on), on.Name)
		text := flat(textOf(t, b.Bytes()))
		assert.Contains(t, text, "Platform clock", on.Name)
		assert.Contains(t, text, "192.0.2.39", on.Name)
	}
	var b bytes.Buffer
	own := paper.LabelSheet{Paper: paper.A4, Columns: 3, Rows: 8, Width: 80, Height: 30}
	assert.EqualError(t, p.WriteLabels(&b, own), "3 labels of 80 mm are wider than the paper (210 mm)")
}

func ExamplePaper_Write() {
	pack := packtest.Sample(1)
	p := paper.Paper{Pack: &pack, Size: paper.A4, Language: words.In("en"), Manifest: handover.Manifest{Number: 1, At: packtest.At}}
	var b bytes.Buffer
	err := p.Write(&b)
	fmt.Println(b.String()[:5], err)
	// Output: %PDF- <nil>
}
