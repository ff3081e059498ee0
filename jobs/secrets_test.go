package jobs_test

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/sim/simtest"
	"unlatch/store/storetest"
)

// After every kind of work the password stands nowhere in the database and nowhere in the log: not in evidence, exchanges, events, job
// arguments or runs, neither plain nor percent-encoded nor as a basic sign-in.
func TestNoSecretIsKeptInTheOpen(t *testing.T) {
	t.Parallel()
	const secret = "Brass&Lamp/41"
	wire := strings.ReplaceAll(yard, "secret: brass-lamp-41", `secret: "`+secret+`"`)
	simtest.Start(t, strings.ReplaceAll(strings.ReplaceAll(mute, "secret: brass-lamp-41", `secret: "`+secret+`"`), "127.42.13.",
		"127.42.15."))
	b := setYard(t, wire, storetest.URL(t), "127.42.14", 8)
	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret(secret)})
	require.NoError(t, err)
	b.work()
	b.sweep()
	b.wait(b.open(b.ids("11", "14", "17", "20")))
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(b.names["20"], b.ids("11")...)))
	b.agreeForTarget(b.names["20"])
	b.wait(b.openAgain(b.ids("11")))
	require.NotEmpty(t, b.device("11").Status.Placements[0].Slot, "the recorder was given the URL with its sign-in")
	b.wait(b.paste(command.Paste{URL: "rtsp://127.42.14.20:554/strongroom/1/0",
		Shape: "/strongroom/{channel}/{stream-1}", Recipe: "learned", Channels: 2, SignIn: key}))

	// Cameras that take nothing but a basic sign-in, which is the password itself in another spelling.
	yard := b.site
	b.site, err = b.s.Sites.Create(ctx, "Wharf", address.MustParse("127.42.15.0/24"))
	require.NoError(t, err)
	b.sweep()
	b.agree("11", "12")
	b.wait(b.open(b.ids("11", "12")))
	require.Equal(t, latch.Placed, b.device("11").Status.At())
	b.site = yard

	forms := []string{secret, url.QueryEscape(secret), url.PathEscape(secret), "Brass%26Lamp%2F41",
		base64.StdEncoding.EncodeToString([]byte("fitter:" + secret))}
	rows, err := b.s.Pool.Query(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = 'public' AND table_type = "+
		"'BASE TABLE'")
	require.NoError(t, err)
	var tables []string
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		tables = append(tables, name)
	}
	require.NoError(t, rows.Err())
	require.Greater(t, len(tables), 8)
	for _, table := range tables {
		for _, form := range forms {
			var n int
			require.NoError(t, b.s.Pool.QueryRow(ctx, fmt.Sprintf(`SELECT count(*) FROM %q t WHERE strpos(t::text, $1) > 0`, table),
				form).Scan(&n))
			assert.Zero(t, n, "%s holds a secret", table)
		}
	}
	for _, form := range forms {
		assert.NotContains(t, b.log.String(), form)
	}
	var exchanges int
	require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT count(*) FROM evidence WHERE exchange <> ''").Scan(&exchanges))
	assert.Greater(t, exchanges, 5, "there were exchanges to look through")
}
