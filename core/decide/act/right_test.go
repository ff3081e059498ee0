package act

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The table of docs/people.md is the one that is gone by.
func TestTheDocumentedRights(t *testing.T) {
	var table strings.Builder
	table.WriteString("|")
	for _, right := range Rights {
		table.WriteString(" | " + string(right))
	}
	table.WriteString(" |\n" + strings.Repeat("| --- ", len(Rights)+1) + "|\n")
	for _, role := range Roles {
		table.WriteString("| " + string(role) + " |")
		for _, right := range Rights {
			table.WriteString(map[bool]string{true: " yes |", false: "  |"}[role.May(right)])
		}
		table.WriteString("\n")
	}
	text, err := os.ReadFile("../../../docs/people.md")
	require.NoError(t, err)
	assert.Contains(t, string(text), table.String())
}

func TestGiven(t *testing.T) {
	site, other := uuid.New(), uuid.New()
	for _, role := range Roles {
		p := Person{Role: role, Sites: []uuid.UUID{site}}
		assert.True(t, p.Given(site), role)
		assert.Equal(t, role == Owner, p.Given(other), role)
	}
	assert.False(t, Person{}.Given(site), "nobody has nothing")
}

// Whoever decides on people is told what is missing, and the last owner stays.
func TestActsOnPeople(t *testing.T) {
	id, site := uuid.New(), []uuid.UUID{uuid.New()}
	people := map[uuid.UUID]Person{id: {ID: id, Name: "Ida", Role: Owner}}
	for name, c := range map[string]struct {
		act    Act
		others int
		cause  string
		after  string
	}{
		"an invitation":           {Invite{Name: " Ida ", Standing: Standing{Viewer, site}}, 0, "", "viewer, 1 site"},
		"without a name":          {Invite{Name: " ", Standing: Standing{Viewer, site}}, 0, "no_name", ""},
		"without a role":          {Invite{Name: "Ida", Standing: Standing{"king", site}}, 0, "no_role", ""},
		"without a site":          {Invite{Name: "Ida", Standing: Standing{Viewer, nil}}, 0, "no_sites", ""},
		"another owner":           {Invite{Name: "Ida", Standing: Standing{Owner, nil}}, 0, "", "owner"},
		"an owner of two demoted": {ChangePerson{id, Standing{Technician, slices.Repeat(site, 2)}}, 1, "", "technician, 2 sites"},
		"the last owner demoted":  {ChangePerson{id, Standing{Technician, site}}, 0, "last_owner", ""},
		"the last owner stays":    {ChangePerson{id, Standing{Owner, nil}}, 0, "", "owner"},
		"an owner of two removed": {RemovePerson{id}, 1, "", ""},
		"the last owner removed":  {RemovePerson{id}, 0, "last_owner", ""},
	} {
		out, err := c.act.Decide(Facts{People: people, OtherOwners: c.others})
		if c.cause != "" {
			refused := new(Refusal)
			if assert.ErrorAs(t, err, &refused, name) {
				assert.Equal(t, c.cause, refused.Cause, name)
			}
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, []string{"Ida", c.after}, []string{out.Line.Subject, out.Line.After}, name)
	}
}
