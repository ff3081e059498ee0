package jobs_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/store/storetest"
)

// A recipe that was learned from one URL is kept in the path book once it has found streams on the next channels, and not before.
func TestALearnedRecipeIsKept(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.38", 4)
	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.work()
	kept := func() (paths []string) {
		books, err := b.s.Books.All(ctx)
		require.NoError(t, err)
		for _, book := range books {
			if book.Name != "Learned here" {
				continue
			}
			for _, r := range book.Recipes {
				paths = append(paths, r.Shape)
			}
		}
		return paths
	}
	args := command.Paste{URL: "rtsp://127.42.38.20:554/strongroom/1/0", Shape: "/strongroom/{channel*7}/{stream+40}",
		Recipe: "learned, wrong", Channels: 2, SignIn: key, Save: true}
	b.wait(b.paste(args))
	assert.Empty(t, kept(), "it has found nothing")
	args.Shape, args.Recipe = "/strongroom/{channel}/{stream-1}", "learned, right"
	b.wait(b.paste(args))
	assert.Equal(t, []string{"/strongroom/{channel}/{stream-1}"}, kept())
	proven := 0
	for _, d := range b.devices() {
		if d.Status.Latch(latch.Proven).State == latch.Open {
			proven++
		}
	}
	assert.Equal(t, 2, proven)
}
