package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// Six cameras are named by a pattern, taken back, and named by a list; one name twice is refused beside the button. Then the line-up is
// grouped and narrowed, and the view kept.
func TestNamingAndFindingInTheLineUp(t *testing.T) {
	t.Parallel()
	simtest.Start(t, patchYard("127.43.36"))
	b := start(t)
	b.bring("Yard", "127.43.36.0/26", 9)

	b.page.MustElement("[aria-label='Select all that are shown']").MustClick()
	b.press("^Name …$")
	b.press("^By a pattern$")
	b.typeIn("pattern", "Platform")
	b.see("would both be called")
	b.clean("names that cannot be")
	b.typeIn("pattern", "Platform {nn}")
	b.see("^Platform 09$")
	b.press("^Name 9 cameras$")
	b.page.MustElement(`[data-device="Platform 09"]`)
	b.press("^Undo$")
	b.count(`[data-device^="Platform 0"]`, 0)

	b.press("^Name …$")
	b.press("^From a list$")
	b.page.MustElement("textarea[name=list]").MustInput("127.43.36.12\tFootbridge\n127.43.36.11\tPlatform clock\n")
	b.press("^Name 2 cameras$")
	b.page.MustElement(`[data-device="Footbridge"]`)
	b.page.MustElement(`[data-device="Platform clock"]`)

	require.NoError(t, b.page.Keyboard.Type(input.Escape)) // the selection is let go
	b.page.MustElement("[aria-label='Filter and groups']").MustClick()
	b.page.MustElement("select[aria-label='Grouped by']").MustSelect("maker")
	b.page.MustElement("[role=checkbox][aria-label='Maker: Corvane']").MustClick()
	b.clean("filter and groups")
	b.page.MustElement("[aria-label='Name of the view']").MustInput("Corvane alone")
	b.press("^Keep$")
	b.see("^Corvane alone$")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.page.MustElementR("[role=row]", "^Corvane")
	b.page.MustReload()
	b.page.MustElement("[aria-label='Filter and groups, 1 chosen']") // this browser keeps it
}

// Nine cameras go onto a recorder that takes its time to connect: into its slots in the order of the list, whatever finishes first, and
// they are confirmed without another press.
func TestInOrderOntoASlowRecorder(t *testing.T) {
	t.Parallel()
	simtest.Start(t, strings.Replace(patchYard("127.43.39"), "slots: 6, analogue: 2, streams: 9554", "slots: 16, connects_ms: 20000", 1))
	b := start(t)
	b.bring("Yard", "127.43.39.0/26", 9)
	b.count(`[data-at="placed"]`, 9)
	b.press("^Patch$")
	b.addTarget("Bridge", "http://127.43.39.21:8081", "Vault")
	b.press("^Line-up$")
	b.page.MustElement("[aria-label='Select all that are shown']").MustClick()
	b.press("^Place 9 cameras on Vault$")
	b.see("^waiting$|[0-9] waiting") // and none of them is stuck
	b.count(`[data-run="running"]`, 0)
	b.page.MustElementR("button", "^All open")
	stands := ""
	assert.Eventually(t, func() bool {
		out, err := b.page.Eval(`async () => {
			const site = location.pathname.split("/")[2];
			const list = (await (await fetch("/api/sites/" + site + "/devices")).json()).filter((d) => d.kind === "camera" && !d.stray);
			list.sort((a, b) => Number(a.address.split(".")[3]) - Number(b.address.split(".")[3]));
			return list.map((d) => d.placements.map((p) => p.slot + " " + p.state).join()).join("; ");
		}`)
		if err == nil {
			stands = out.Value.Str()
		}
		return stands == "slot 1 confirmed; slot 2 confirmed; slot 3 confirmed; slot 4 confirmed; slot 5 confirmed; "+
			"slot 6 confirmed; slot 7 confirmed; slot 8 confirmed; slot 9 confirmed"
	}, patience, 500*time.Millisecond)
	if t.Failed() {
		t.Log(stands)
	}
}
