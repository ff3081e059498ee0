package store_test

import (
	"fmt"
	"sync"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/store"
	"unlatch/store/storetest"
)

// written returns a store whose record has lines in several scripts, with everything that a line can have and nothing that it need not.
func written(t *testing.T, lines int) *store.Store {
	t.Helper()
	s := storetest.Open(t)
	p, err := s.People.CreateFirst(ctx, "Žofie", "hash")
	require.NoError(t, err)
	site, err := s.Sites.Create(ctx, "Tarn, Ferry", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	for i := range lines {
		line := act.Line{Subject: fmt.Sprintf("門 %d, \"x\":y", i), Before: "a", After: "7:b,", SiteName: site.Name}
		about := act.About{Name: "place", Site: site.ID}
		switch i % 3 {
		case 1:
			line.Devices, line.DeviceName = []uuid.UUID{uuid.New()}, "Clock at 192.0.2.7"
			line.Target, line.TargetName = uuid.New(), "Vault"
		case 2:
			line, about, p.Token = act.Line{Devices: []uuid.UUID{uuid.New(), uuid.New()}}, act.About{Name: "sign-in"}, "nightly"
		}
		require.NoError(t, s.Acts().Write(ctx, p, about, line))
		p.Token = ""
	}
	return s
}

// The record holds as it was written, whoever writes at once.
func TestTheRecordHolds(t *testing.T) {
	t.Parallel()
	s := written(t, 7)
	c, err := s.Verify(ctx, "")
	require.NoError(t, err)
	require.Nil(t, c.Broken, "%s", c)
	assert.EqualValues(t, 7, c.Lines)
	noted := c.Hash
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for range 5 {
				assert.NoError(t, s.Acts().Write(ctx, act.Person{Name: fmt.Sprint("writer ", i)}, act.About{Name: "place"}, act.Line{}))
			}
		})
	}
	all.Wait()
	c, err = s.Verify(ctx, noted)
	require.NoError(t, err)
	require.Nil(t, c.Broken, "%s", c)
	assert.EqualValues(t, 47, c.Lines)
	assert.True(t, c.Contains)
	c, err = s.Verify(ctx, "00ff")
	require.NoError(t, err)
	assert.False(t, c.Contains)
	_, err = s.Verify(ctx, "no hash")
	assert.Error(t, err)
}

// The database itself keeps lines as they are; whoever gets past that is found out by the first line that does not follow.
func TestAForgedRecordIsFound(t *testing.T) {
	t.Parallel()
	for name, forge := range map[string]struct {
		sql  string
		line int64
	}{
		"a field changed":                 {"UPDATE audit SET subject = 'nothing' WHERE number = 3", 3},
		"a person changed":                {"UPDATE audit SET person = 'somebody' WHERE number = 1", 1},
		"a device taken out":              {"UPDATE audit SET devices = devices[1:1] WHERE number = 3", 3},
		"a time changed":                  {"UPDATE audit SET at = at + interval '1 microsecond' WHERE number = 5", 5},
		"words moved from field to field": {"UPDATE audit SET before = 'a7:b,', after = '' WHERE number = 1", 1},
		"a line taken out":                {"DELETE FROM audit WHERE number = 4", 5},
		"the newest taken out":            {"DELETE FROM audit WHERE number = 7", 6},
		"one slipped in": {`INSERT INTO audit (id, number, hash, subject)
			SELECT gen_random_uuid(), 8, hash, 'x' FROM audit WHERE number = 7`, 8},
		"one slipped in between": {`WITH up AS (UPDATE audit SET number = number + 1000 WHERE number > 3 RETURNING 1)
			INSERT INTO audit (id, number, hash, subject) SELECT gen_random_uuid(), 4, hash, 'x' FROM audit WHERE number = 3`, 4},
		"two changed round": {"UPDATE audit SET number = 11 - number WHERE number IN (5, 6)", 5},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := written(t, 7)
			_, err := s.Pool.Exec(ctx, forge.sql)
			if name != "one slipped in" {
				require.ErrorContains(t, err, "append-only")
			}
			_, err = s.Pool.Exec(ctx, "ALTER TABLE audit DISABLE TRIGGER USER; DROP INDEX audit_number")
			require.NoError(t, err)
			_, err = s.Pool.Exec(ctx, forge.sql)
			require.NoError(t, err)
			c, err := s.Verify(ctx, "")
			require.NoError(t, err)
			require.NotNil(t, c.Broken, "%s", c)
			assert.Equal(t, forge.line, c.Broken.Number, "%s", c)
		})
	}
}

// Lines are found by whom, what, where, when and by words in any script, and by all of that at once.
func TestTheRecordIsFiltered(t *testing.T) {
	t.Parallel()
	s := written(t, 6)
	all, err := s.Record.List(ctx, store.LineFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, all, 6)
	device := all[4].Devices[0] // of the second line
	for name, c := range map[string]struct {
		f    store.LineFilter
		want int
	}{
		"a person":               {store.LineFilter{Person: "Žofie"}, 6},
		"nobody":                 {store.LineFilter{Person: "Zofie"}, 0},
		"an act":                 {store.LineFilter{Act: "sign-in"}, 2},
		"a device":               {store.LineFilter{Device: device}, 1},
		"a word":                 {store.LineFilter{Text: "vault"}, 2},
		"a word in capitals":     {store.LineFilter{Text: "ŽOFIE"}, 6},
		"two words, in no order": {store.LineFilter{Text: "clock tarn"}, 2},
		"another script":         {store.LineFilter{Text: "門"}, 4},
		"a pattern is no word":   {store.LineFilter{Text: "cl_ck"}, 0},
		"everything is no word":  {store.LineFilter{Text: "%"}, 0},
		"a site":                 {store.LineFilter{Site: *all[5].SiteID}, 4},
		"from then on":           {store.LineFilter{From: all[1].At}, 2},
		"until then":             {store.LineFilter{To: all[1].At}, 4},
		"all at once":            {store.LineFilter{Person: "Žofie", Act: "place", Device: device, Text: "vault", Site: *all[4].SiteID}, 1},
		"of no site given":       {store.LineFilter{Given: []uuid.UUID{}}, 0},
	} {
		c.f.Limit = 10
		lines, err := s.Record.List(ctx, c.f)
		require.NoError(t, err, name)
		assert.Len(t, lines, c.want, name)
	}
	names, err := s.Record.People(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"Žofie"}, names)
	names, err = s.Record.People(ctx, []uuid.UUID{uuid.New()})
	require.NoError(t, err)
	assert.Empty(t, names)
}
