package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/simtest"
)

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
	b.see("^Working at Tarn Ferry station")
	b.press("^Line-up$")
	b.page.MustElement("[data-device]") // the sweep has heard somebody
	b.server.Kill()

	demo()
	t.Cleanup(func() { assert.NoError(t, b.server.Stop()) })
	b.page.MustNavigate(b.server.URL)
	prepared := func() bool {
		doing, err := b.page.Eval(`async () => (await (await fetch("/api/health")).json()).preparing ?? ""`)
		return err == nil && doing.Value.Str() == ""
	}
	require.Eventually(t, prepared, 5*time.Minute, time.Second)
	b.press("^Tarn Ferry station")
	b.page.MustElement("[data-device]")
	require.Eventually(t, func() bool { return !b.page.MustHasR("[role=status]", "Working at|Drawing|could not be prepared") },
		patience, 100*time.Millisecond)
	twice, err := b.page.Eval(`async () => {
		const site = location.pathname.split("/")[2];
		const targets = await (await fetch("/api/sites/" + site + "/targets")).json();
		const names = targets.map((t) => t.name);
		return names.filter((n, i) => names.indexOf(n) !== i).concat(names.length < 11 ? ["only " + names.length] : []);
	}`)
	require.NoError(t, err)
	assert.Empty(t, twice.Value.Arr(), "targets that stand twice")
}
