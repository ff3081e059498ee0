package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/telling"
	"unlatch/sim/simtest"
)

// The page of the server says what is wrong and what to do; a backup that failed is told, stands over the sites, and is made good by a
// click.
func TestABackupThatFailsIsToldAndMadeGood(t *testing.T) {
	t.Parallel()
	var told sync.Map
	hook := simtest.Serve(t, "127.0.0.1", func(_ http.ResponseWriter, r *http.Request) {
		var m telling.Message
		if json.NewDecoder(r.Body).Decode(&m) == nil {
			told.Store(m.Headline, m.Kind)
		}
	})
	heard := func(kind telling.Kind) (text string) {
		told.Range(func(headline, k any) bool {
			if k == kind {
				text = headline.(string)
			}
			return text == ""
		})
		return text
	}
	folder := filepath.Join(t.TempDir(), "backups")
	b := start(t, "--backup-to", folder, "--backup-every", "1h", "--backup-without-key")
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.69.0/27")
	b.page.MustElementR("nav a", "^Drift$").MustClick()
	b.press("^Tell somebody$")
	b.typeIn("name", "Desk")
	b.page.MustElement("[role=dialog] select").MustSelect("Webhook")
	b.typeIn("to", hook)
	b.page.MustElementR("[role=dialog] button", "wrong with the server itself").MustClick()
	b.page.MustElementR("[role=dialog] button", "^Save$").MustClick()
	b.page.MustElementR("[aria-label='Who is told'] li", "Desk")
	eventually(t, func() bool { return heard(telling.Unwell) != "" }, patience, 200*time.Millisecond)
	assert.Regexp(t, `^Unlatch: The backup of .* failed: .*no such file or directory`, heard(telling.Unwell))

	settled(t, b.page.MustNavigate(b.server.URL))
	b.page.MustElementR("[data-unwell]", "The backup of .* failed")
	b.see(`^Unlatch 0\.1\.0`)
	b.clean("sites, with something wrong")
	b.press("^What to do")
	b.page.MustElementR("[data-verdict]", "^One thing is wrong")
	b.page.MustElementR(`[data-finding="backup_failed"][data-state="ill"]`, "there is none at all")
	b.see("PostgreSQL 1")
	b.see("Reaches Viaduct")
	b.clean("server")

	require.NoError(t, os.Mkdir(folder, 0o755))
	b.press("^Make a backup now$")
	eventually(t, func() bool {
		found, _ := filepath.Glob(filepath.Join(folder, "unlatch-*.zip"))
		return len(found) == 1
	}, patience, 200*time.Millisecond)
	eventually(t, func() bool {
		b.page.MustElementR("button", "^Look again$").MustClick()
		has, _, err := b.page.Has(`[data-finding="backup_failed"]`)
		return err == nil && !has
	}, patience, 200*time.Millisecond)
	b.see("The last backup is of ")
	eventually(t, func() bool { return heard(telling.Over) != "" }, patience, 200*time.Millisecond)
	assert.Contains(t, heard(telling.Over), "Over: Unlatch: The backup of ")
}
