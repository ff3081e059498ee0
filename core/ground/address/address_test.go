package address

import (
	"context"
	"encoding/json"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		in    string
		want  string
		count uint64
	}{
		{"192.0.2.0/24", "192.0.2.0/24", 256},
		{"192.0.2.77/24", "192.0.2.0/24", 256},
		{"192.0.2.7", "192.0.2.7", 1},
		{"192.0.2.10-192.0.2.40", "192.0.2.10-192.0.2.40", 31},
		{"192.0.2.10-11", "192.0.2.10-192.0.2.11", 2},
		{"192.0.2.0/30, 198.51.100.0/31;203.0.113.9", "192.0.2.0/30, 198.51.100.0/31, 203.0.113.9", 7},
		{"0.0.0.0-255.255.255.255", "0.0.0.0-255.255.255.255", 1 << 32},
		{"2001:db8::/64", "2001:db8::/64", 1<<64 - 1},
		{"2001:db8::/120", "2001:db8::/120", 256},
		{"::/0", "::/0", 1<<64 - 1},
		{"", "", 0},
	} {
		got, err := Parse(c.in)
		require.NoError(t, err, c.in)
		assert.Equal(t, c.want, got.String(), c.in)
		assert.Equal(t, c.count, got.Count(), c.in)
	}
}

func TestSpansAreWhatPeopleType(t *testing.T) {
	assert.Equal(t, []string{"192.0.2.10-192.0.2.40", "192.0.2.50", "198.51.100.0-198.51.100.255"},
		MustParse("192.0.2.10-40", "192.0.2.50", "198.51.100.0/24").Spans())
	assert.Empty(t, Ranges{}.Spans())
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	for in, want := range map[string]string{
		"192.0.2.0/33":         "not an address with a prefix length",
		"platform":             "not an address",
		"192.0.2.40-10":        "runs backwards",
		"192.0.2.1-2001:db8::": "same kind",
		"x-192.0.2.1":          "does not begin",
		"fe80::1%eth0":         "not an address",
	} {
		_, err := Parse("192.0.2.0/24", in)
		var re *RangeError
		require.ErrorAs(t, err, &re, in)
		assert.Equal(t, in, re.Input)
		assert.ErrorContains(t, err, want)
		assert.NotEmpty(t, re.Fix)
	}
}

func TestLargeRangeAsksWithItsNumber(t *testing.T) {
	var many *TooManyError
	require.ErrorAs(t, MustParse("10.0.0.0/8").Check(), &many)
	assert.EqualValues(t, 16777216, many.Count)
	assert.ErrorContains(t, many, "16,777,216 addresses")
	assert.NoError(t, MustParse("10.0.0.0/16").Check())
}

func TestHosts(t *testing.T) {
	var got []string
	for a := range MustParse("192.0.2.0/30", "192.0.2.2/31", "192.0.2.9").Hosts() {
		got = append(got, a.String())
	}
	assert.Equal(t, []string{"192.0.2.1", "192.0.2.2", "192.0.2.9"}, got,
		"network and broadcast are left out, and no address comes twice")
}

// A span that was typed from its first to its last address loses neither of them, nor any between, however it is cut up.
func TestATypedSpanKeepsEveryAddress(t *testing.T) {
	r := MustParse("192.0.2.11-192.0.2.34")
	back, err := Parse(r.Strings()...)
	require.NoError(t, err)
	for _, ranges := range []Ranges{r, back} {
		last, n := byte(10), 0
		for a := range ranges.Hosts() {
			assert.Equal(t, last+1, a.As4()[3])
			last, n = a.As4()[3], n+1
		}
		assert.Equal(t, 24, n)
	}
	var covered uint64
	for _, p := range r.Prefixes() {
		covered += 1 << (32 - p.Bits())
	}
	assert.EqualValues(t, 24, covered, "the prefixes cover the span and nothing else")
	assert.False(t, r.Contains(netip.MustParseAddr("192.0.2.10")))
	assert.False(t, r.Contains(netip.MustParseAddr("2001:db8::1")))
	assert.True(t, r.Contains(netip.MustParseAddr("::ffff:192.0.2.11")))
}

func TestRangesSurviveJSON(t *testing.T) {
	b, err := json.Marshal(MustParse("192.0.2.10-12"))
	require.NoError(t, err)
	var back Ranges
	require.NoError(t, json.Unmarshal(b, &back))
	assert.Equal(t, MustParse("192.0.2.10-12"), back)
	assert.Error(t, json.Unmarshal([]byte(`["nonsense"]`), &back))
	assert.Error(t, json.Unmarshal([]byte(`7`), &back))
}

func TestGuardRefusesWhatTheSiteDoesNotAuthorise(t *testing.T) {
	l, err := net.Listen("tcp", "127.40.90.1:0")
	require.NoError(t, err)
	defer l.Close()
	inside := &Guard{Allowed: MustParse("127.40.90.0/24")}
	conn, err := inside.DialContext(context.Background(), "tcp", l.Addr().String())
	require.NoError(t, err)
	conn.Close()

	outside := &Guard{Allowed: MustParse("127.40.91.0/24")}
	_, err = outside.DialContext(context.Background(), "tcp", l.Addr().String())
	var scope *OutOfScopeError
	require.ErrorAs(t, err, &scope)
	assert.Equal(t, netip.MustParseAddr("127.40.90.1"), scope.Addr)

	_, err = outside.DialContext(context.Background(), "tcp", net.JoinHostPort("localhost", "1"))
	require.ErrorAs(t, err, &scope, "a name is checked after it is resolved")
	_, err = (&Guard{}).DialContext(context.Background(), "tcp", l.Addr().String())
	require.ErrorAs(t, err, &scope, "a guard without ranges lets nothing through")
}

func TestInterfacesOfferNoLoopback(t *testing.T) {
	all, err := Interfaces()
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, i := range all {
		if i.Loopback {
			assert.Empty(t, i.Ranges())
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"192.0.2.0/24", "192.0.2.1-9", "2001:db8::1-2001:db8::ff", "1.2.3.4-", "-"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, in string) {
		r, err := Parse(in)
		if err != nil {
			return
		}
		again, err := Parse(r.Strings()...)
		require.NoError(t, err)
		assert.Equal(t, r.Strings(), again.Strings())
	})
}
