package e2e

import (
	"testing"

	"github.com/go-rod/rod/lib/input"
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
