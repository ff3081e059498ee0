package pathprobe_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/pathprobe"
	"unlatch/core/wire/rtsp"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Plain, maker: ostrel, model: O1, address: 127.41.30.11, scene: turntable, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5}, &s {width: 160, height: 90, fps: 5, kbps: 100, gop: 5}, *s]}
  - {name: Open minded, maker: ostrel, model: O1, address: 127.41.30.12, scene: turntable, streams: [*m, *s], defects: {path_first: true}}
  - {name: Yes to all, maker: ostrel, model: O1, address: 127.41.30.13, scene: turntable, streams: [*m], users: [],
       defects: {any_path: true}}
  - {name: Digest, maker: lumenhythe, model: L2, address: 127.41.30.14, scene: turntable, streams: [*m, *s], defects: {path_first: true}}
`

var (
	ctx    = context.Background()
	fitter = signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}
)

func climber(t *testing.T, w *sim.World, device string) *pathprobe.Finder {
	u, err := streamurl.Parse("rtsp://" + w.Device(device).RTSP())
	require.NoError(t, err)
	c := &pathprobe.Finder{Leave: signin.Policy{Agreed: signin.InClear}.Leave,
		Dial: &address.Guard{Allowed: address.MustParse("127.41.30.0/24")}, At: u}
	t.Cleanup(c.Close)
	return c
}

func TestServersAreToldApartByANonsensePath(t *testing.T) {
	w := simtest.Start(t, yard)
	for device, want := range map[string]camera.Precedence{"Plain": camera.SignInFirst, "Open minded": camera.PathFirst,
		"Yes to all": camera.AnyPath, "Digest": camera.PathFirst} {
		s, err := climber(t, w, device).Ask(ctx)
		require.NoError(t, err)
		assert.Equal(t, want, s.Precedence, device)
		assert.NotEmpty(t, s.Server, device)
	}
}

func TestFind(t *testing.T) {
	w := simtest.Start(t, yard)
	books := recipe.Shipped()

	// Sign-in first: the sign-in is proven without any path, then the recipe that fits the server's word is tried before all guesses.
	c := climber(t, w, "Plain")
	s, err := c.Ask(ctx)
	require.NoError(t, err)
	wrong := fitter
	wrong.Secret = signin.NewSecret("tin-lamp")
	assert.ErrorAs(t, c.SignIn(ctx, wrong, ""), new(*rtsp.AuthError))
	require.NoError(t, c.SignIn(ctx, fitter, ""))
	likely := pathprobe.Candidates(recipe.Stream, recipe.Device{Server: s.Server}, 1, nil, books...)
	assert.Equal(t, "/orrery/crown", likely[0].Path)
	found, tried, err := c.Find(ctx, s, fitter, likely)
	require.NoError(t, err)
	require.Len(t, found, 3)
	assert.Equal(t, []string{"/orrery/crown", "/orrery/belt", "/orrery/hem"}, []string{found[0].Path, found[1].Path, found[2].Path})
	assert.Len(t, tried, 3, "and no other shape is asked for")

	// Path first: without any sign-in a 401 says that the path is there.
	c = climber(t, w, "Open minded")
	s, err = c.Ask(ctx)
	require.NoError(t, err)
	found, tried, err = c.Find(ctx, s, signin.SignIn{}, pathprobe.Candidates(recipe.Stream, recipe.Device{}, 1, nil, books[1], books[0]))
	require.NoError(t, err)
	require.Len(t, found, 2)
	assert.Greater(t, len(tried), 10, "past all the guesses that are not there")
	assert.Equal(t, 404, tried[0].Status)
	assert.ErrorAs(t, c.SignIn(ctx, wrong, found[0].Path), new(*rtsp.AuthError))
	assert.NoError(t, c.SignIn(ctx, fitter, found[0].Path))

	// Any path: the first path is as good as all others, and no more are asked for.
	c = climber(t, w, "Yes to all")
	s, err = c.Ask(ctx)
	require.NoError(t, err)
	found, tried, err = c.Find(ctx, s, signin.SignIn{}, likely)
	require.NoError(t, err)
	assert.Len(t, found, 1)
	assert.Len(t, tried, 1)
}

func TestNothingFits(t *testing.T) {
	w := simtest.Start(t, yard)
	c := climber(t, w, "Plain")
	s, err := c.Ask(ctx)
	require.NoError(t, err)
	found, tried, err := c.Find(ctx, s, fitter, pathprobe.Candidates(recipe.Stream, recipe.Device{}, 1, nil, recipe.Shipped()[1]))
	require.NoError(t, err)
	assert.Empty(t, found)
	assert.NotEmpty(t, tried)
	_, _, err = c.Find(ctx, s, signin.SignIn{}, pathprobe.Candidates(recipe.Stream, recipe.Device{}, 1, nil, recipe.Shipped()[1]))
	assert.ErrorAs(t, err, new(*rtsp.AuthError), "without the sign-in nothing is learned, and nothing is tried in vain")
	c.At.Host = "127.41.31.9"
	c.Close()
	_, err = c.Ask(ctx)
	assert.ErrorAs(t, err, new(*address.OutOfScopeError))
}

func TestShapesOfDevicesAlikeComeFirst(t *testing.T) {
	sister := recipe.Recipe{Name: "a sister camera", Shape: "/tower/{tier:a|b}", Path: recipe.MustParse("/tower/{tier:a|b}"),
		Purpose: recipe.Stream}
	likely := pathprobe.Candidates(recipe.Stream, recipe.Device{Maker: "Corvane"}, 3, []recipe.Recipe{sister}, recipe.Shipped()...)
	assert.Equal(t, []string{"/tower/a", "/tower/b", "/vista/ch3/primary"}, []string{likely[0].Path, likely[1].Path, likely[2].Path})
	for _, r := range likely {
		assert.NotContains(t, r.Path, "lantern", "what is for another maker is not tried")
	}
}
