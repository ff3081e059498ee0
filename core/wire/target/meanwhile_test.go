package target_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/viabridge"
	"unlatch/sim/simtest"
)

// Somebody else takes the slot, or it is taken away, at any moment while it is being filled. Nobody loses what they have: the camera goes
// into another slot where any will do, and else it is told why not.
func TestSlotsThatAreTakenOrVanishMeanwhile(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(room, "127.46.40.", "127.46.43."))
	desk := w.Bridge("Desk")
	open := func(log *exchange.Log) *viabridge.Session {
		a := access("http://127.46.43.23:8081", "oak-door-52")
		a.Dial, a.Log = &address.Guard{Allowed: address.MustParse("127.46.43.0/24")}, log
		return connect(t, viabridge.Driver{}, a).(*viabridge.Session)
	}
	// meanwhile places a camera and has something happen before the nth thing that is sent or heard; ended says that it had ended before.
	meanwhile := func(n int, slot string, happens func()) (p target.Placement, err error, ended bool) {
		log := exchange.NewLog(nil)
		s := open(log)
		left := n
		log.Watch(func() {
			if left--; left == 0 {
				happens()
			}
		})
		c := camera(w, "Clock", "main", "sub")
		c.Slot = slot
		p, err = s.Place(ctx, c)
		return p, err, left > 0
	}
	other := open(exchange.NewLog(nil))
	holds := func(slot string) string {
		for _, s := range desk.Look().Slots {
			if s.ID == slot && s.Entry != nil {
				return s.Entry.Name
			}
		}
		return ""
	}
	takes := func(slot string) func() {
		return func() {
			c := camera(w, "Bridge", "main", "sub")
			c.Slot = slot
			other.Place(ctx, c) // whoever is first has it
		}
	}
	clear := func() {
		for _, name := range []string{"Clock", "Bridge"} {
			for _, s := range desk.Look().Slots {
				if s.Entry != nil && s.Entry.Name == name {
					require.NoError(t, other.Remove(ctx, target.Ref(s.ID+"\n"+s.Entry.Key)))
				}
			}
		}
	}
	now := desk.Look()
	first := now.FirstFree().ID
	turned := 0
	for n, ended := 1, false; !ended; n++ {
		require.Less(t, n, 60)
		var p target.Placement
		var err error
		p, err, ended = meanwhile(n, first, takes(first))
		if err != nil {
			turned++
			assert.Equal(t, "Bridge", holds(first), "point %d: who was first keeps it", n)
			assert.NotContains(t, err.Error(), "oak-door")
		} else {
			assert.Equal(t, first, p.Token, "point %d", n)
			assert.Equal(t, "Clock", holds(first), "point %d", n)
		}
		clear()
	}
	assert.Positive(t, turned, "it was taken in time at some point")
	for n, ended := 1, false; !ended; n++ {
		require.Less(t, n, 60)
		var p target.Placement
		var err error
		p, err, ended = meanwhile(n, "", takes(first))
		require.NoError(t, err, "point %d: any slot will do", n)
		assert.Equal(t, "Clock", holds(p.Token), "point %d", n)
		clear()
	}
	gone := 0
	for n := 1; n <= 3; n++ {
		last := desk.Look().Slots[len(desk.Look().Slots)-1].ID
		_, err, _ := meanwhile(n, last, func() { desk.Vanish(last) })
		if err != nil {
			gone++
			problem := new(bridge.Problem)
			if !assert.ErrorAs(t, err, new(*target.GoneSlotError), "point %d: %v", n, err) {
				assert.ErrorAs(t, err, &problem)
			}
		}
		clear()
	}
	assert.Positive(t, gone)
}
