package act

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/pairing"
)

func TestAWorkerIsPaired(t *testing.T) {
	t.Parallel()
	x := PairWorker{ID: uuid.New(), Key: pairing.NewKey().Public(),
		Recipient: pairing.NewIdentity("", "").Recipient(), Name: " Viaduct\x00cabinet ", Machine: "box-3",
		Sites: []uuid.UUID{uuid.New()}, Names: []string{"Viaduct"}}
	out, err := x.Decide(Facts{})
	require.NoError(t, err)
	assert.Equal(t, "Viaduct·cabinet", out.Line.Subject)
	assert.Equal(t, "box-3, key "+x.Key.Name()+", for Viaduct", out.Line.After)
	for want, change := range map[string]func(*PairWorker){"no_name": func(x *PairWorker) { x.Name = " " },
		"no_site": func(x *PairWorker) { x.Sites = nil }, "bad_key": func(x *PairWorker) { x.Key = x.Key[:31] }} {
		bad := x
		change(&bad)
		_, err := bad.Decide(Facts{})
		assert.Equal(t, want, cause(t, err))
	}
	assert.Equal(t, Administer, x.About().Right)
	assert.Equal(t, Administer, RevokeWorker{}.About().Right)
	bad := x
	bad.Recipient = "age1"
	_, err = bad.Decide(Facts{})
	assert.Equal(t, "bad_key", cause(t, err))
	_, err = GiveSites{Name: "Viaduct cabinet"}.Decide(Facts{})
	assert.Equal(t, "no_site", cause(t, err))
	out, err = GiveSites{Name: "Viaduct cabinet", Sites: x.Sites, Names: x.Names, Shared: true}.Decide(Facts{})
	require.NoError(t, err)
	assert.Equal(t, "Viaduct, and the sign-ins that are for every site", out.Line.After)
	assert.Equal(t, x.Sites[0], RotateSiteKey{Site: &x.Sites[0]}.About().Site)
	out, err = RevokeWorker{Name: "Viaduct cabinet"}.Decide(Facts{})
	require.NoError(t, err)
	assert.Equal(t, "Viaduct cabinet", out.Line.Subject)
}

// A worker is told to take a version that is offered and newer than its own, and no other.
func TestUpdatingAWorker(t *testing.T) {
	t.Parallel()
	for to, want := range map[string]string{"0.2.0": "", "0.3.0": "not_offered", "0.1.0": "not_newer", "0.0.9": "not_newer",
		"x": "not_newer"} {
		a := UpdateWorker{ID: uuid.New(), Name: "Viaduct cabinet", Version: "0.1.0", To: to,
			Offered: []string{"0.2.0", "0.1.0", "0.0.9", "x"}}
		out, err := a.Decide(Facts{})
		if want == "" {
			require.NoError(t, err)
			assert.Equal(t, []string{"0.1.0", "0.2.0"}, []string{out.Line.Before, out.Line.After})
			continue
		}
		assert.Equal(t, want, cause(t, err), to)
	}
}
