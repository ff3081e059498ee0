package jobs_test

import (
	"net/netip"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target/viabridge"
	"unlatch/jobs"
	"unlatch/sim/names"
	"unlatch/store"
	"unlatch/store/storetest"
)

const byName = `
name: by name
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: N1, address: NET.11, scene: platform-clock, streams: [{width: 160,
       height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
targets:
  - {name: Vault, kind: software, maker: Overlea, address: NET.201, port: 8081, user: desk, secret: oak-door-52, slots: 6}
`

// A target by its name is reached at the addresses that a person has taken for it. Where none answers any more and the name leads
// elsewhere, that is told, nothing is sent there, and a person takes the new addresses.
func TestATargetByItsName(t *testing.T) {
	t.Parallel()
	server, err := names.Start("127.42.50.53:0")
	require.NoError(t, err)
	defer server.Close()
	const name = "vault.tarnside.example"
	inside, gone, here := netip.MustParseAddr("127.42.50.12"), netip.MustParseAddr("127.42.50.202"), netip.MustParseAddr("127.42.50.201")
	server.Set(name, inside, here)

	b := setYard(t, byName, storetest.URL(t), "127.42.50", 0)
	b.site, err = b.s.Sites.Create(ctx, "Paint Shop", address.MustParse("127.42.50.0/25"))
	require.NoError(t, err)
	b.hooks = jobs.Hooks{Resolver: address.NameServer(server.Addr())}
	b.work()
	b.sweep()
	leads, err := b.q.Addresses(ctx, b.site, name)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{inside, here}, leads, "by the worker's name server")

	_, err = b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	vault, key := uuid.New(), uuid.New()
	_, err = b.s.SignIns.AddAll(ctx, signin.New{ID: key, Label: "Desk", User: "desk", Secret: signin.NewSecret("oak-door-52"),
		Terms: signin.Terms{Purpose: signin.Target}})
	require.NoError(t, err)
	put := func(fresh bool, at ...netip.Addr) {
		out := act.PutTarget{ID: vault, New: fresh, TargetForm: act.TargetForm{Kind: viabridge.Kind, Name: "Vault",
			Address: "http://" + name + ":8081", SignIn: &key, Addresses: at}}
		for _, a := range at {
			out.Reach = append(out.Reach, netip.AddrPortFrom(a, 8081))
		}
		require.NoError(t, b.s.Targets.Put(ctx, b.site.ID, out))
		b.agreeForTarget(vault)
	}
	look := func() store.SeenRecord {
		b.wait(b.run(command.Work{Kind: "target", Title: "look", Targets: []command.OnTarget{{Target: vault,
			Do: command.Target{Look: &command.Look{}}}}}))
		history, err := b.s.Targets.History(ctx, vault, 1)
		require.NoError(t, err)
		require.Len(t, history, 1)
		return history[0]
	}
	put(true, inside, here)
	seen := look()
	require.Nil(t, seen.Diagnosis, "%+v", seen.Diagnosis)
	b.wait(b.open(b.ids("11")))
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(vault, b.ids("11")...)))
	b.wait(b.open(b.ids("11")))
	st := b.device("11").Status
	require.Equal(t, latch.Name(""), st.At(), "%+v", st.Latches)
	assert.Equal(t, "right camera", st.PlacementOn(vault).Match)
	asked := server.Asked()
	look()
	assert.Equal(t, asked, server.Asked(), "while it answers, no name server is asked")

	put(false, gone)
	seen = look()
	require.NotNil(t, seen.Diagnosis)
	assert.Equal(t, trouble.NameMoved, seen.Diagnosis.V.Cause)
	assert.Contains(t, seen.Diagnosis.V.Summary, "leads to 127.42.50.12, 127.42.50.201 now")
	assert.Contains(t, seen.Diagnosis.V.Summary, "was reached at 127.42.50.202")
	put(false, inside, here)
	seen = look()
	assert.Nil(t, seen.Diagnosis, "%+v", seen.Diagnosis)
	assert.NotContains(t, b.everything(), "oak-door-52")
}
