package act

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/latch"
)

// platform is three cameras at 192.0.2.11 to 13; the second has been named.
func platform() (Facts, []uuid.UUID) {
	f, ids := Facts{Devices: map[uuid.UUID]*latch.Device{}}, []uuid.UUID{}
	for i, name := range []string{"", "Footbridge", ""} {
		id := uuid.New()
		d := &latch.Device{ID: id, Name: name, Title: "Corvane V4", Addr: "192.0.2.1" + string(rune('1'+i))}
		d.Status.Device.Maker, d.Status.Device.Hardware = "Corvane", "V4"
		f.Devices[id], f.Order, ids = d, append(f.Order, id), append(ids, id)
	}
	return f, ids
}

func TestNamesForSeveral(t *testing.T) {
	f, ids := platform()
	for _, x := range []struct {
		what string
		act  NameAll
		want []string // in the order of the devices; "-" is left as it was
	}{
		{"a pattern counts", NameAll{Pattern: "Platform {n}", First: 1}, []string{"Platform 1", "Platform 2", "Platform 3"}},
		{"from a number on, with zeros", NameAll{Pattern: "P{nn}", First: 9}, []string{"P09", "P10", "P11"}},
		{"what it is and where", NameAll{Pattern: "{maker} {model} at {last}", First: 1},
			[]string{"Corvane V4 at 11", "Corvane V4 at 12", "Corvane V4 at 13"}},
		{"a list in order, with a gap", NameAll{List: "Clock\r\n\r\nStairs\n"}, []string{"Clock", "-", "Stairs"}},
		{"a list by address, as a spreadsheet pastes it", NameAll{List: "192.0.2.13\tStairs\n192.0.2.11\tClock\n192.0.2.99\tNobody"},
			[]string{"Clock", "-", "Stairs"}},
		{"as typed, and one given back", NameAll{Names: map[uuid.UUID]string{ids[0]: " Clock ", ids[1]: ""}}, []string{"Clock", "", "-"}},
	} {
		x.act.Devices = ids
		out, err := x.act.Decide(f)
		require.NoError(t, err, x.what)
		got := []string{"-", "-", "-"}
		for _, n := range out.Names {
			for i, id := range ids {
				if n.Device == id {
					got[i] = n.Name
				}
			}
		}
		assert.Equal(t, x.want, got, x.what)
		assert.Len(t, out.Keep, len(out.Names), x.what)
	}
}

func TestNamesThatCannotBe(t *testing.T) {
	f, ids := platform()
	for cause, a := range map[string]NameAll{
		"name_twice":  {Pattern: "Platform", First: 1},
		"bad_pattern": {Pattern: "Platform {number}", First: 1},
		"bad_list":    {List: "Clock\nFootbridge\nStairs\nOne too many"},
		"no_name":     {Names: map[uuid.UUID]string{uuid.New(): "Clock"}},
	} {
		a.Devices = ids
		_, err := a.Decide(f)
		var refusal *Refusal
		require.ErrorAs(t, err, &refusal, cause)
		assert.Equal(t, cause, refusal.Cause)
	}
	_, err := NameAll{Devices: ids, List: "192.0.2.11 Clock\nFootbridge"}.Decide(f)
	assert.ErrorContains(t, err, "begin with an address")
	_, err = NameAll{Devices: ids, Pattern: "Platform", First: 1}.Decide(f)
	assert.ErrorContains(t, err, "192.0.2.11 and 192.0.2.12", "it says which two")
}

func FuzzListedNames(f *testing.F) {
	facts, ids := platform()
	f.Add("192.0.2.11,Clock\n")
	f.Add("Clock\nFootbridge")
	f.Fuzz(func(t *testing.T, list string) {
		names, err := listedNames(list, ids, facts)
		if err == nil && len(names) > len(ids) {
			t.Fatalf("%d names for %d devices", len(names), len(ids))
		}
		for _, n := range names {
			if len([]rune(n)) > longestName {
				t.Fatalf("%q is too long", n)
			}
		}
	})
}
