package act

// A SignOn is who somebody is to a provider of single sign-on, as an ID token says it (OpenID Connect Core 1.0 §2).
type SignOn struct {
	Issuer  string // the provider
	Subject string // whom the provider means, whatever names and addresses that person has
	// Names are what the person is called there, the best first. None is empty.
	Names []string
	// Roles are the values of the claim that roles are read from; nil where that claim is missing.
	Roles []string
}

// A SignOnRule says what a provider's word is good for here.
type SignOnRule struct {
	Provider string // its name, as people know it
	// Roles gives a role for a value of the claim; nil where the provider gives no roles, and people are invited here.
	Roles map[string]Role
}

// roleOf returns the widest role that the values of the claim give.
func (r SignOnRule) roleOf(values []string) (Role, bool) {
	for _, role := range Roles {
		for _, v := range values {
			if r.Roles[v] == role {
				return role, true
			}
		}
	}
	return "", false
}

// Admit decides in which role somebody comes in who has signed on at the provider. known is the account that is connected to them; nil for
// none, which means that one is made. Where the provider gives roles, its word counts for every account that has no password here. Those
// with a password keep the role that an owner has given them, so that an owner's password stays a way in whatever the provider says.
// Its error is a *Refusal.
func (r SignOnRule) Admit(s SignOn, known *Person) (Role, error) {
	if known != nil && (known.Password || r.Roles == nil) {
		return known.Role, nil
	}
	if r.Roles == nil {
		return "", refuse("not_connected", "Nobody here is connected to your account at "+r.Provider+".",
			"Ask an owner for an invitation. If you have an account here, sign in with your password and connect it on the page Your account.")
	}
	if s.Roles == nil {
		return "", refuse("no_role_claim", r.Provider+" has not said which roles you have.",
			"Ask who looks after "+r.Provider+" to send the roles to Unlatch.")
	}
	role, ok := r.roleOf(s.Roles)
	if !ok {
		return "", refuse("no_role_there", r.Provider+" gives you no role in Unlatch.",
			"Ask who looks after "+r.Provider+" for one of the roles that are meant for Unlatch.")
	}
	return role, nil
}

// ConnectSignOn connects the account of whoever acts to who they are at the provider, so that they can sign in there from now on.
type ConnectSignOn struct {
	Issuer, Subject string
	Provider        string // its name, for the record
	// Ceremony is the hash of the token of the ceremony that this ends: what was begun once connects once.
	Ceremony []byte
}

// About implements Act.
func (a ConnectSignOn) About() About {
	return About{Name: "connect-sign-on", Right: Look, InPerson: true}
}

// Decide implements Act.
func (a ConnectSignOn) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name, After: a.Provider}}, nil
}

// DisconnectSignOn ends what ConnectSignOn began: whoever acts signs in by password alone.
type DisconnectSignOn struct{}

// About implements Act.
func (a DisconnectSignOn) About() About {
	return About{Name: "disconnect-sign-on", Right: Look, InPerson: true}
}

// Decide implements Act.
func (a DisconnectSignOn) Decide(f Facts) (Outcome, error) {
	if !f.By.Password {
		return Outcome{}, refuse("no_password", "Your account has no password, so this is your only way in.",
			"Ask an owner for a link by which you set one.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name}}, nil
}
