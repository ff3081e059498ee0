package e2e

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// pdfOf is a PDF of some pages; each asks for a script to be run that would change the page's title.
func pdfOf(pages int) []byte {
	var b bytes.Buffer
	var at []int
	object := func(text string) {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", len(at), text)
	}
	b.WriteString("%PDF-1.7\n")
	object("<< /Type /Catalog /Pages 2 0 R /OpenAction << /S /JavaScript /JS (document.title = 'taken over'; app.alert\\(1\\)) >> >>")
	kids := ""
	for n := range pages {
		kids += fmt.Sprintf("%d 0 R ", 3+n)
	}
	object(fmt.Sprintf("<< /Type /Pages /Kids [%s] /Count %d >>", kids, pages))
	for range pages {
		object("<< /Type /Page /Parent 2 0 R /MediaBox [0 0 400 300] >>")
	}
	start := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, a := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", a)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, start)
	return b.Bytes()
}

// chooseFile chooses a file for a site plan.
func (b *bench) chooseFile(name string, content []byte) {
	b.t.Helper()
	file := filepath.Join(b.t.TempDir(), name)
	require.NoError(b.t, os.WriteFile(file, content, 0o644))
	b.page.MustElement(`input[aria-label="Site plan file"]`).MustSetFiles(file)
}

// Cameras are put onto a picture of the building and found there; pages of a PDF are drawn, and nothing in them is run; what cannot be
// read says why.
func TestASitePlan(t *testing.T) {
	t.Parallel()
	simtest.Start(t, patchYard("127.43.38"))
	b := start(t)
	b.bring("Yard", "127.43.38.0/26", 9)
	b.press("^Plan$")
	b.see("No site plan yet")
	b.clean("no site plan yet")
	b.press("^Bring a site plan$")
	b.chooseFile("none.pdf", pdfOf(0))
	b.see("has no pages|cannot be read")
	b.chooseFile("plan.pdf", pdfOf(3))
	b.see("Which of its 3 pages")
	b.typeIn("page", "7")
	b.typeIn("name", "Roof")
	b.press("^Bring it$")
	b.see("pages 1 to 3")
	b.typeIn("page", "2")
	b.press("^Bring it$")
	b.page.MustElement(`img[alt="Plan Roof"]`)
	assert.Equal(t, "Unlatch", b.page.MustEval(`() => document.title.split(" ").pop()`).Str(), "no script of the PDF has run")

	var ground bytes.Buffer
	require.NoError(t, png.Encode(&ground, image.NewGray(image.Rect(0, 0, 800, 600))))
	b.press("Another plan")
	b.chooseFile("Ground floor.png", ground.Bytes())
	b.press("^Bring it$")
	b.page.MustElement(`img[alt="Plan Ground floor"]`)
	shelf := b.page.MustElement(`[aria-label="Cameras that are not on the plan"]`)
	shelf.MustElement("button").MustClick()
	b.see("Press on the plan where it hangs")
	stage := b.page.MustElement(`[aria-label="Plan Ground floor"]`).MustShape().Box()
	m := b.page.Mouse
	require.NoError(t, m.MoveTo(proto.Point{X: stage.X + stage.Width/2, Y: stage.Y + stage.Height/2}))
	m.MustDown(proto.InputMouseButtonLeft)
	m.MustUp(proto.InputMouseButtonLeft)
	mark := b.page.MustElement("[data-mark]")
	b.see("Press on the plan where it hangs") // the next one is in hand
	b.page.MustElement(`[aria-pressed=true][class*="is-picked"]`).MustClick()
	b.see("1 of 9 cameras are on it")
	mark.MustFocus()
	require.NoError(t, b.page.Keyboard.Type(input.ArrowRight, input.ArrowRight))
	eventually(t, func() bool {
		return b.page.MustEval(`() => parseFloat(document.querySelector("[data-mark]").style.left)`).Num() > 50.6
	}, patience, 100*time.Millisecond, "the arrow keys move it")
	b.clean("a site plan")
	b.press("^Its bench$")
	b.page.MustElement("#bench")
}
