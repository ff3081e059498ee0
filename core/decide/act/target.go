package act

import (
	"cmp"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/rtmp"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
	"unlatch/core/wire/target/feed"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
)

// Asked reports whether a target of a kind can be asked anything.
func Asked(k target.Kind) bool { return k != feed.Kind && k != byhand.Kind }

// A TargetForm is a target that stands by itself, as a person describes it.
type TargetForm struct {
	Kind     target.Kind
	Name     string
	Address  string
	Intake   string // the name of what it accepts; "" for what it says itself
	SignIn   *uuid.UUID
	Settings map[string]string
	Via      *uuid.UUID // of a live platform: the recorder that sends to it
	Shared   bool
	// Addresses are those that its name leads to, as the person has seen and taken them; empty where the address is in numbers.
	Addresses []netip.Addr
	// User and Secret are a new sign-in for it, which goes onto the keyring.
	User   string
	Secret signin.Secret
}

// settingsOf are the settings that each kind has.
var settingsOf = map[target.Kind][]string{hub.Kind: {hub.Prefix}, live.Kind: {live.Ingest, live.Stream},
	byhand.Kind: {"text", "each", "passwords", "file"}}

// Elsewhere is the setting, "yes" or nothing, of a target that stands outside the site: it is given URLs with the site's outside address.
const Elsewhere = "elsewhere"

// longestSetting is the longest setting, in bytes: a template.
const longestSetting = 70_000

// check returns the form as it is kept, with the places beyond the site's ranges that it opens: one, or as many as its name leads to.
func (t TargetForm) check() (TargetForm, []netip.AddrPort, error) {
	t.Name, t.Address = strings.TrimSpace(t.Name), strings.TrimSpace(t.Address)
	for k, v := range t.Settings {
		if !slices.Contains(settingsOf[t.Kind], k) && k != Elsewhere {
			return t, nil, refuse("bad_setting", fmt.Sprintf("A target of this kind has no setting %q.", k), "Leave it out.")
		}
		if len(v) > longestSetting {
			return t, nil, refuse("bad_setting", "The setting is too long.", "Make it shorter.")
		}
	}
	if !Asked(t.Kind) {
		if t.Name == "" {
			return t, nil, refuse("no_name", "The target has no name.", "Give it the name of the screen or of what reads the list.")
		}
		t.Address = ""
		return t, nil, nil
	}
	if t.Kind == live.Kind {
		if t.Via == nil {
			return t, nil, refuse("no_recorder", "A live platform is reached by way of a recorder.",
				"Choose the recorder that sends to it.")
		}
		if _, err := rtmp.ParseIngest(t.Settings[live.Ingest]); err != nil {
			return t, nil, badIngest(err)
		}
	}
	at, err := reachOf(t.Kind, t.Address, t.Addresses)
	return t, at, err
}

// placeOf returns the host and the port that a target's address names.
func placeOf(kind target.Kind, text string) (host string, port uint16, err error) {
	u, err := url.Parse(text)
	schemes := map[target.Kind][]string{viabridge.Kind: {"http", "https"}, live.Kind: {"http", "https"}, hub.Kind: {"mqtt", "mqtts"}}[kind]
	bad := refuse("bad_address", "The address cannot be read.", fmt.Sprintf("Write it like %s://192.0.2.10:%s.", schemes[0],
		map[string]string{"http": "8081", "mqtt": "1883"}[schemes[0]]))
	if err != nil || !slices.Contains(schemes, u.Scheme) || u.Hostname() == "" || u.RawQuery != "" || u.Fragment != "" {
		return "", 0, bad
	}
	if u.User != nil {
		return "", 0, refuse("sign_in_in_address", "A sign-in does not belong into the address.", "Put it on the keyring and choose it.")
	}
	n, err := strconv.ParseUint(target.Port(u), 10, 16)
	if err != nil {
		return "", 0, bad
	}
	host = u.Hostname()
	if addr, aerr := netip.ParseAddr(host); aerr == nil && (addr.IsUnspecified() || addr.IsMulticast()) ||
		aerr != nil && !address.HostName(host) {
		return "", 0, bad
	}
	return host, uint16(n), nil
}

// reachOf returns the places that a target's address names: one of an address in numbers, of a name those that a person has taken for it.
func reachOf(kind target.Kind, text string, taken []netip.Addr) (out []netip.AddrPort, err error) {
	host, port, err := placeOf(kind, text)
	if err != nil {
		return nil, err
	}
	if addr, err := netip.ParseAddr(host); err == nil {
		return []netip.AddrPort{netip.AddrPortFrom(addr.Unmap(), port)}, nil
	}
	if len(taken) == 0 {
		return nil, refuse("name_unseen", fmt.Sprintf("%q is a name, and nobody has looked at where it leads.", host),
			"See where it leads first: it is reached at the addresses that are shown then, and at no others.")
	}
	if len(taken) > address.MaxAddresses {
		return nil, refuse("too_many_addresses", fmt.Sprintf("%q leads to too many addresses.", host), "Give its address in numbers.")
	}
	for _, a := range taken {
		if a = a.Unmap(); !a.IsValid() || a.IsUnspecified() || a.IsMulticast() {
			return nil, refuse("bad_address", fmt.Sprintf("%q leads to %s, which is no place to connect to.", host, a),
				"Correct the name server, or give its address in numbers.")
		}
		out = append(out, netip.AddrPortFrom(a, port))
	}
	slices.SortFunc(out, netip.AddrPort.Compare)
	return slices.Compact(out), nil
}

// parts refuses a form that names an intake, a sign-in or a recorder which is not there.
func (t TargetForm) parts(f Facts) error {
	if t.Intake != "" && !slices.Contains(f.Intakes, t.Intake) {
		return refuse("no_intake", fmt.Sprintf("No book has an intake %q.", t.Intake), "Choose one of the books, or bring one.")
	}
	if t.Via != nil && f.Targets[*t.Via].Kind != viabridge.Kind {
		return refuse("not_a_pusher", f.Targets[*t.Via].Name+" cannot send to a live platform.",
			"Choose a recorder that is reached by a bridge and can.")
	}
	return nil
}

// FromPack returns a target that a handover pack has, as it is kept: checked as if a person had typed it. One whose address is a name is
// refused: nobody has looked here where that leads.
func (t TargetForm) FromPack(id uuid.UUID) (PutTarget, error) {
	form, at, err := t.check()
	return PutTarget{ID: id, New: true, TargetForm: form, Reach: at}, err
}

// signIn returns the sign-in that was typed for the target. It is tried on no device. The form names it from then on.
func (t *TargetForm) signIn() NewSignIns {
	if t.User == "" && t.Secret.Empty() {
		return nil
	}
	id := uuid.Must(uuid.NewV7())
	t.SignIn = &id
	return NewSignIns{{ID: id, Label: "For " + cmp.Or(t.Name, t.Address), User: t.User, Secret: t.Secret,
		Terms: signin.Terms{Purpose: signin.Target}}}
}

func (t TargetForm) aboutTargets(name Name, site uuid.UUID, targets ...uuid.UUID) About {
	out := About{Name: name, Right: Work, Site: site, Targets: targets, WithIntakes: t.Intake != ""}
	if t.Via != nil {
		out.Targets = append(out.Targets, *t.Via)
	}
	if t.SignIn != nil {
		out.SignIns = append(out.SignIns, *t.SignIn)
	}
	return out
}

// line returns what the record says of a target: with the place beyond the ranges that it opens.
func (t TargetForm) line(at []netip.AddrPort) Line {
	out := Line{Subject: cmp.Or(t.Name, t.Address)}
	if len(at) > 0 {
		var places []string
		for _, a := range at {
			places = append(places, a.String())
		}
		out.After = "reached at " + strings.Join(places, ", ")
	}
	return out
}

// AddTarget adds a target, and looks at it.
type AddTarget struct {
	Site uuid.UUID
	ID   uuid.UUID // of the new target
	TargetForm
	Agree []target.Secret // what may go to it so that it can be read
	// Certificate is the one that the person has seen at its address and taken for its own, SHA-256 in hex; "" for none.
	Certificate string
}

// PutTarget is a target as it is kept: a new one, or an old one with what was changed.
type PutTarget struct {
	ID  uuid.UUID
	New bool
	TargetForm
	Reach []netip.AddrPort // the places that it may be reached at beyond the site's ranges
	// Renewed takes the next certificate that it shows for its own.
	Renewed bool
}

// About implements Act.
func (a AddTarget) About() About { return a.aboutTargets("add-target", a.Site) }

// Decide implements Act.
func (a AddTarget) Decide(f Facts) (Outcome, error) {
	form, at, err := a.check()
	if err == nil {
		err = form.parts(f)
	}
	if err != nil {
		return Outcome{}, err
	}
	out := Outcome{Line: form.line(at)}
	if keys := form.signIn(); keys != nil {
		out.Keep = append(out.Keep, keys)
	}
	out.Keep = append(out.Keep, PutTarget{ID: a.ID, New: true, TargetForm: form, Reach: at})
	if a.Certificate != "" {
		if !sha256Hex.MatchString(a.Certificate) || !byTLS(form.Address) {
			return Outcome{}, refuse("bad_certificate", "A certificate is taken for an address that is reached over TLS, by its SHA-256.",
				"Look at the certificate again, or leave it out.")
		}
		out.Keep = append(out.Keep, TakeTargetCertificate{Site: a.Site, Target: a.ID, SHA256: a.Certificate})
		out.Line.After += ", known by the certificate " + a.Certificate
	}
	if len(a.Agree) > 0 {
		out.Keep = append(out.Keep, Agreed{Target: a.ID, Secrets: a.Agree})
	}
	if form.Kind == feed.Kind {
		out.Keep = append(out.Keep, NewFeed{Target: a.ID})
	}
	if Asked(form.Kind) {
		out.Work = looking([]uuid.UUID{a.ID}, "Look at "+cmp.Or(form.Name, form.Address), false)
	}
	out.Line.Target = a.ID
	return out, nil
}

var sha256Hex = regexp.MustCompile("^[0-9a-f]{64}$")

// byTLS reports whether an address is reached over TLS.
func byTLS(address string) bool {
	return strings.HasPrefix(address, "https://") || strings.HasPrefix(address, "mqtts://")
}

// SetTarget changes a target; its kind stays.
type SetTarget struct {
	Site, Target uuid.UUID
	TargetForm
	Was     *TargetForm // the target as the person saw it; nil changes whatever it is
	Renewed bool        // take the next certificate that it shows for its own
}

// About implements Act.
func (a SetTarget) About() About { return a.aboutTargets("set-target", a.Site, a.Target) }

// Decide implements Act.
func (a SetTarget) Decide(f Facts) (Outcome, error) {
	form, at, err := a.check()
	if err != nil {
		return Outcome{}, err
	}
	if old := f.Targets[a.Target]; old.Kind != form.Kind || old.Device != nil {
		return Outcome{}, refuse("other_kind", "A target stays of its kind.", "Add another one.")
	}
	if err := form.parts(f); err != nil {
		return Outcome{}, err
	}
	out := Outcome{Line: form.line(at)}
	if a.Was != nil {
		out.Keep = append(out.Keep, Unchanged{Target: a.Target, Was: a.Was.Fields(), Then: form.Fields()})
	}
	if keys := form.signIn(); keys != nil {
		out.Keep = append(out.Keep, keys)
	}
	out.Keep = append(out.Keep, PutTarget{ID: a.Target, TargetForm: form, Reach: at, Renewed: a.Renewed})
	if Asked(form.Kind) {
		out.Work = looking([]uuid.UUID{a.Target}, "Look at "+cmp.Or(form.Name, form.Address), false)
	}
	out.Line.Target, out.Line.Before = a.Target, f.Targets[a.Target].Name
	return out, nil
}

// DeleteTarget removes a target that is no device. What stands on it stays on it.
type DeleteTarget struct{ Site, Target uuid.UUID }

// About implements Act.
func (a DeleteTarget) About() About {
	return About{Name: "delete-target", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a DeleteTarget) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	if t.Device != nil || t.Site != f.Site.ID {
		return Outcome{}, &MissingError{IDs: []uuid.UUID{a.Target}}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: t.Name}}, nil
}

// SetIntake says what a target accepts, by the name of an intake; "" takes that back.
type SetIntake struct {
	Site, Target uuid.UUID
	Name         string
}

// About implements Act.
func (a SetIntake) About() About {
	return About{Name: "set-target-intake", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}, WithIntakes: a.Name != ""}
}

// Decide implements Act.
func (a SetIntake) Decide(f Facts) (Outcome, error) {
	if a.Name != "" {
		i := slices.IndexFunc(f.Intakes, func(n string) bool { return strings.EqualFold(n, a.Name) })
		if i < 0 {
			return Outcome{}, refuse("no_intake", fmt.Sprintf("No book has an intake %q.", a.Name), "Choose one of the books, or bring one.")
		}
		a.Name = f.Intakes[i]
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Targets[a.Target].Name, Target: a.Target, After: a.Name}}, nil
}

// LookAt asks targets what they are and how their slots stand.
type LookAt struct {
	Site    uuid.UUID
	Targets []uuid.UUID // none for all that can be asked
	Retry   bool        // send a sign-in once more that a target has refused
}

// About implements Act.
func (a LookAt) About() About {
	return About{Name: "look-at-targets", Right: Work, Site: a.Site, Targets: a.Targets, AllTargets: len(a.Targets) == 0}
}

// Decide implements Act.
func (a LookAt) Decide(f Facts) (Outcome, error) {
	var which []uuid.UUID
	for _, id := range f.TargetOrder {
		if Asked(f.Targets[id].Kind) {
			which = append(which, id)
		}
	}
	if len(which) == 0 {
		return Outcome{}, refuse("nothing_to_ask", "There is no target here that can be asked.", "Add one, or open the latches of a recorder.")
	}
	title := "Look at 1 target"
	if len(which) > 1 {
		title = fmt.Sprintf("Look at %d targets", len(which))
	}
	return Outcome{Work: looking(which, title, a.Retry), Line: Line{Subject: title[len("Look at "):]}}, nil
}

// looking returns the run that looks at targets.
func looking(targets []uuid.UUID, title string, retry bool) *command.Work {
	w := &command.Work{Kind: "target", Title: title}
	for _, t := range targets {
		w.Targets = append(w.Targets, command.OnTarget{Target: t, Do: command.Target{Look: &command.Look{Retry: retry}}})
	}
	return w
}

// ChangeTarget frees a blocked slot of a target, sets the order of its slots, or when one records.
type ChangeTarget struct {
	Site, Target uuid.UUID
	Change       command.TargetChange
}

// About implements Act.
func (a ChangeTarget) About() About {
	return About{Name: "change-target", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a ChangeTarget) Decide(f Facts) (Outcome, error) {
	t, c := f.Targets[a.Target], a.Change
	title, after := "", ""
	switch {
	case c.Free != "":
		title, after = "Free the slot "+c.Free+" of "+t.Name, "freed "+c.Free
	case c.Schedule != nil && c.Slot != "":
		for _, p := range c.Schedule.Week {
			if p.From >= p.To {
				return Outcome{}, refuse("bad_hours", "A span of hours ends before it begins.", "Give hours like 8 to 18.")
			}
		}
		title, after = "Set when "+c.Slot+" of "+t.Name+" records", c.Slot+" records "+c.Schedule.Mode
	case len(c.Order) > 0:
		title, after = "Set the order on "+t.Name, fmt.Sprintf("%d slots in order", len(c.Order))
	default:
		return Outcome{}, refuse("nothing_to_do", "Nothing is asked for.", "Name a slot to free, an order, or a schedule.")
	}
	work := &command.Work{Kind: "target", Title: title, Targets: []command.OnTarget{{Target: a.Target, Do: command.Target{Change: &c}}}}
	return Outcome{Work: work, Line: Line{Subject: t.Name, Target: a.Target, After: after}}, nil
}

// OpenFeed makes a new address for a feed; the one before opens nothing from then on.
type OpenFeed struct{ Site, Target uuid.UUID }

// About implements Act.
func (a OpenFeed) About() About {
	return About{Name: "open-feed", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a OpenFeed) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	if t.Kind != feed.Kind || t.Site != f.Site.ID {
		return Outcome{}, &MissingError{IDs: []uuid.UUID{a.Target}}
	}
	return Outcome{Keep: []any{NewFeed{Target: a.Target}}, Line: Line{Subject: t.Name, Target: a.Target}}, nil
}

// CloseFeed withdraws the address of a feed.
type CloseFeed struct{ Site, Target uuid.UUID }

// About implements Act.
func (a CloseFeed) About() About {
	return About{Name: "close-feed", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a CloseFeed) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	if t.Kind != feed.Kind || t.Site != f.Site.ID {
		return Outcome{}, &MissingError{IDs: []uuid.UUID{a.Target}}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: t.Name, Target: a.Target}}, nil
}

// TakeFile hands out what a target's template makes. That passwords left is in the record with who had them.
// A list without passwords is read, and needs no act.
type TakeFile struct{ Site, Target uuid.UUID }

// About implements Act.
func (a TakeFile) About() About {
	return About{Name: "take-list", Right: Reveal, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a TakeFile) Decide(f Facts) (Outcome, error) {
	return Outcome{Line: Line{Subject: f.Targets[a.Target].Name, Target: a.Target, After: "with passwords"}}, nil
}
