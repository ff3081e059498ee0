package act

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhoIsAdmittedBySingleSignOn(t *testing.T) {
	invited := SignOnRule{Provider: "Tarnside"}
	byRole := SignOnRule{Provider: "Tarnside", Roles: map[string]Role{"benches": Technician, "heads": Engineer}}
	for name, c := range map[string]struct {
		rule  SignOnRule
		roles []string
		known *Person
		role  Role
		cause string
	}{
		"nobody, where people are invited":    {invited, []string{"heads"}, nil, "", "not_connected"},
		"somebody connected":                  {invited, nil, &Person{Role: Viewer}, Viewer, ""},
		"nobody yet, with a role":             {byRole, []string{"cooks", "benches"}, nil, Technician, ""},
		"with two roles the wider one counts": {byRole, []string{"benches", "heads"}, nil, Engineer, ""},
		"with no role that counts here":       {byRole, []string{"cooks"}, nil, "", "no_role_there"},
		"with an empty claim":                 {byRole, []string{}, nil, "", "no_role_there"},
		"without the claim":                   {byRole, nil, nil, "", "no_role_claim"},
		"a role was given since":              {byRole, []string{"heads"}, &Person{Role: Viewer}, Engineer, ""},
		"a role was taken away since":         {byRole, []string{"benches"}, &Person{Role: Engineer}, Technician, ""},
		"all roles were taken away since":     {byRole, []string{"cooks"}, &Person{Role: Engineer}, "", "no_role_there"},
		"somebody with a password here":       {byRole, []string{"benches"}, &Person{Role: Owner, Password: true}, Owner, ""},
		"the same without the claim":          {byRole, nil, &Person{Role: Owner, Password: true}, Owner, ""},
	} {
		role, err := c.rule.Admit(SignOn{Roles: c.roles}, c.known)
		assert.Equal(t, c.role, role, name)
		if c.cause == "" {
			assert.NoError(t, err, name)
			continue
		}
		refused := new(Refusal)
		if assert.ErrorAs(t, err, &refused, name) {
			assert.Equal(t, c.cause, refused.Cause, name)
			assert.NotEmpty(t, refused.Fix, name)
		}
	}
}

func TestTheOnlyWayInStays(t *testing.T) {
	_, err := DisconnectSignOn{}.Decide(Facts{By: Person{Name: "edda"}})
	refused := new(Refusal)
	if assert.ErrorAs(t, err, &refused) {
		assert.Equal(t, "no_password", refused.Cause)
	}
	out, err := DisconnectSignOn{}.Decide(Facts{By: Person{Name: "edda", Password: true}})
	assert.NoError(t, err)
	assert.Equal(t, "edda", out.Line.Subject)
}
