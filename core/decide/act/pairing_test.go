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
	x := PairWorker{ID: uuid.New(), Key: pairing.NewKey().Public(), Name: " Viaduct\x00cabinet ", Machine: "box-3",
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
	out, err = RevokeWorker{Name: "Viaduct cabinet"}.Decide(Facts{})
	require.NoError(t, err)
	assert.Equal(t, "Viaduct cabinet", out.Line.Subject)
}
