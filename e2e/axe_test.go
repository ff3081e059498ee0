package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/simtest"
)

// violation is a rule of the WCAG that a view breaks, by axe-core.
type violation struct {
	ID    string `json:"id"`
	Help  string `json:"help"`
	Nodes []struct {
		HTML    string `json:"html"`
		Summary string `json:"failureSummary"`
	} `json:"nodes"`
}

// clean asserts that axe-core finds nothing of WCAG 2.2 A and AA on the page, in both themes, and that the page has one heading and one
// main part.
func (b *bench) clean(view string) {
	b.t.Helper()
	root, err := browser.Root()
	require.NoError(b.t, err)
	source, err := os.ReadFile(filepath.Join(root, "web", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(b.t, err)
	for _, theme := range []string{"day", "night"} {
		b.page.MustEval(`(theme) => { document.documentElement.dataset.theme = theme; }`, theme)
		b.page.MustEval(`(source) => { if (!window.axe) window.eval(source); }`, string(source))
		raw := b.page.MustEval(`async () => {
			await Promise.all(document.getAnimations().map((a) => a.finished.catch(() => {})));
			const out = await axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"] });
			return JSON.stringify(out.violations);
		}`).Str()
		var found []violation
		require.NoError(b.t, json.Unmarshal([]byte(raw), &found))
		for _, v := range found {
			var nodes []string
			for _, n := range v.Nodes[:min(len(v.Nodes), 4)] {
				nodes = append(nodes, fmt.Sprintf("%.200s\n    %s", n.HTML, strings.ReplaceAll(n.Summary, "\n", " ")))
			}
			assert.Fail(b.t, fmt.Sprintf("%s, %s theme: %s (%s), %d times:\n  %s", view, theme, v.Help, v.ID, len(v.Nodes),
				strings.Join(nodes, "\n  ")))
		}
	}
	b.page.MustEval(`() => { document.documentElement.dataset.theme = "day"; }`)
	for _, one := range []string{"main", "h1"} { // by which those who do not see the page find their way on it
		assert.Equal(b.t, 1, b.page.MustEval(`(one) => document.querySelectorAll(one).length`, one).Int(), "%s: %s", view, one)
	}
}

// No view and no sheet breaks a rule of WCAG 2.2, level A or AA, that a program can tell.
func TestEveryViewIsAccessible(t *testing.T) {
	t.Parallel()
	simtest.Start(t, strings.ReplaceAll(yard, "127.43.1.", "127.43.17."))
	b := start(t)
	b.see("Make the account")
	b.clean("first account")
	b.firstAccount()
	b.clean("no site yet")
	b.press("Make the first site")
	b.see("Make the site")
	b.clean("site sheet")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.makeSite("Viaduct", "127.43.17.0/27")
	b.clean("empty line-up")
	b.press("^Keyring$")
	b.clean("empty keyring")
	b.press("Add the first sign-in")
	b.see("Add to keyring")
	b.clean("sign-in sheet")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.firstSignIn()
	b.clean("keyring")
	b.press("^Line-up$")
	b.press("^Sweep the site$")
	b.count("[data-device]", 7)
	b.page.MustElement(`[data-run="finished"]`)
	b.clean("line-up of what was heard")
	b.press("^Open latches of 7 devices")
	b.count(`[data-at="placed"]`, 6)
	b.page.MustElement(`[data-run="finished"]`)
	b.clean("line-up")
	b.page.MustElementR("[role=row]", `127\.43\.17\.11`).MustClick()
	b.see("Place on")
	for _, part := range []string{"u", "i", "t", "d", "e"} {
		require.NoError(t, b.page.Keyboard.Type(input.Key([]rune(part)[0])))
		b.clean("bench, part " + part)
	}
	require.NoError(t, b.page.Keyboard.Type(input.KeyR))
	for _, at := range []string{"find", "streams", "keyring", "paths"} {
		settled(t, b.page.MustNavigate(strings.Split(b.page.MustInfo().URL, "?")[0]+"/"+at))
		b.clean(at)
		settled(t, b.page.MustNavigateBack())
	}
	settled(t, b.page.MustNavigate(b.server.URL+"record"))
	b.clean("record")
	settled(t, b.page.MustNavigate(b.server.URL))
	b.clean("sites")
}
