package weigh

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/recipe"
)

// Every command that comes with the product is the button of causes that there are.
func TestTheCausesThatCommandsMend(t *testing.T) {
	source, err := os.ReadFile("../../ground/trouble/cause.go")
	require.NoError(t, err)
	for _, b := range recipe.Shipped() {
		for _, c := range b.Commands {
			for _, m := range c.Mends {
				known := strings.Contains(string(source), `Cause = "`+m.Cause+`"`) || slices.Contains([]string{WantsDigest, WantsBasic,
					WantsPlain}, m.Cause)
				assert.True(t, known, "%s mends %s, which no diagnosis is", c.Name, m.Cause)
			}
		}
	}
}

func TestTheButtonsOfWhatIsTheMatter(t *testing.T) {
	lamp := recipe.Command{Name: "Sign-in", Values: []recipe.Value{{Name: "method"}}, Mends: []recipe.Mend{
		{Cause: string(trouble.Readable), Set: map[string]string{"method": "digest"}},
		{Cause: WantsBasic, Set: map[string]string{"method": "both"}}}}
	st := &latch.Status{Latches: []latch.Latch{{Name: latch.Proven, Diagnosis: &diagnose.Diagnosis{Cause: trouble.Readable}}}}
	assert.Equal(t, []Button{{"Sign-in", "readable_only", map[string]string{"method": "digest"}, "method digest"}}, Buttons(st,
		[]recipe.Command{lamp}))
	st = &latch.Status{Placements: []latch.Placement{{Misfit: []fit.Reason{{Field: "scheme", Has: "digest MD5", Wants: "basic"}}}}}
	assert.Equal(t, []Button{{"Sign-in", WantsBasic, map[string]string{"method": "both"}, "method both"}}, Buttons(st, []recipe.Command{lamp}))
	assert.Empty(t, Buttons(&latch.Status{}, []recipe.Command{lamp}))
}
