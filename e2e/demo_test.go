package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/simtest"
)

// mostDrawing is how long a busy machine gets to draw the railway, and to work at its station.
const mostDrawing = 8 * time.Minute

// preparing says what the demo behind a page that is signed in still prepares; "" when all is ready.
func preparing(page *rod.Page) string {
	doing, err := browser.Preparing(page)
	if err != nil {
		return err.Error()
	}
	return doing
}

// preparedDemo waits until the demo behind a page has prepared all.
func preparedDemo(t *testing.T, page *rod.Page) {
	t.Helper()
	eventually(t, func() bool { return preparing(page) == "" }, mostDrawing, 500*time.Millisecond)
}

// The demo is signed in to while its railway is still prepared, and says what it prepares. Killed meanwhile, it goes on when it is
// started again, and nothing stands twice.
func TestTheFirstMinute(t *testing.T) {
	t.Parallel()
	b := &bench{t: t, data: dataFolder(t)}
	require.NoError(t, os.MkdirAll(simtest.MediaDir(t), 0o755))
	require.NoError(t, os.Symlink(simtest.MediaDir(t), filepath.Join(b.data, "media"))) // what other tests drew is not drawn again
	demo := func() {
		var err error
		b.server, err = browser.StartServer("demo", "--data", b.data, "--listen", "127.0.0.1:0", "--network", "127.62")
		require.NoError(t, err)
	}
	demo()
	password := regexp.MustCompile(`Password\s+(\S+)`).FindStringSubmatch(b.server.Output)
	require.Len(t, password, 2, b.server.Output)
	b.browse(b.server.URL)
	b.signIn("keeper", password[1])
	b.page.MustElementR("h1", "^Sites$")
	b.see("Tarn Ferry station")
	b.see("^(Starting the railway|Drawing the railway’s pictures|Working at Tarn Ferry)")
	b.clean("sites of a demo that is being prepared")

	b.press("^Tarn Ferry station")
	eventually(t, func() bool {
		return preparing(b.page) == "Working at Tarn Ferry station: sweeping, proving and placing its cameras"
	},
		mostDrawing, 100*time.Millisecond)
	b.see("^Working at Tarn Ferry station")
	b.press("^Line-up$")
	b.page.MustElement("[data-device]") // the sweep has heard somebody
	b.server.Kill()

	demo()
	t.Cleanup(func() { assert.NoError(t, b.server.Stop()) })
	b.page.MustNavigate(b.server.URL)
	preparedDemo(t, b.page)
	b.press("^Tarn Ferry station")
	b.page.MustElement("[data-device]")
	eventually(t, func() bool { return !b.page.MustHasR("[role=status]", "Working at|Drawing|could not be prepared") },
		patience, 100*time.Millisecond)
	twice, err := b.page.Eval(`async () => {
		const site = location.pathname.split("/")[2];
		const targets = await (await fetch("/api/sites/" + site + "/targets")).json();
		const names = targets.map((t) => t.name);
		return names.filter((n, i) => names.indexOf(n) !== i).concat(names.length < 11 ? ["only " + names.length] : []);
	}`)
	require.NoError(t, err)
	assert.Empty(t, twice.Value.Arr(), "targets that stand twice")
	b.page = b.page.Timeout(3 * time.Minute)
	b.tour()
	b.rest("127.62")
}

// The first steps of docs/tour.md, as they are written there: what is stuck says why, what waits is opened and placed, a camera fresh from
// the factory is claimed, a damaged URL is pasted, and mixed-up pictures are put right.
func (b *bench) tour() {
	b.t.Helper()
	row := func(name string) { b.page.MustElement(fmt.Sprintf("[data-device=%q]", name)).MustClick() }
	ended := func() { b.count(`[data-run="running"]`, 0) }

	row("Parcels office") // 2
	b.see("refused")
	row("Booking hall") // 3
	b.see("session")
	row("Lamp room")
	b.press("^Switch it on$")
	ended()
	row("Goods yard")
	b.see("takes the connection and says nothing")
	require.NoError(b.t, b.page.Keyboard.Type(input.Escape))

	b.press("^Open latches of ") // 4
	b.page.MustElement(`[data-run="running"]`)
	ended()

	b.press("^Placed") // 5
	b.page.MustElement("[aria-label='Select all that are shown']").MustClick()
	b.press("^Place .* on …$")
	b.page.MustElement("[role=checkbox][aria-label='Place on Strongroom']").MustClick()
	b.press("^Place on Strongroom$")
	b.page.MustElement(`[data-run="running"]`)
	ended()
	b.press("^All open")

	b.press("^Patch$") // 15
	// Each press goes to the next that is broken: the watch may have found emptied slots before the pictures that are mixed up.
	eventually(b.t, func() bool {
		b.press("^See (what is broken|the \\d+ that are broken)$")
		return b.page.MustHasR("body *", "shows Platform clock, and not Footbridge|does not take")
	}, patience, time.Second)
}
