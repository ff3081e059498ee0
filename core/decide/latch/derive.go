package latch

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/picturematch"
	"unlatch/core/stream/sighting"
)

// Derive reads the evidence of one device, in any order; of each kind and subject the latest counts.
func Derive(records []evidence.Record, intent Intent) Status {
	latest := map[string]evidence.Record{}
	for _, r := range records {
		key := string(r.Kind) + " " + r.Subject
		if old, ok := latest[key]; !ok || newer(r, old) {
			latest[key] = r
		}
	}
	d := deriver{latest: latest, intent: intent, s: Status{Proofs: map[string]evidence.Proof{}, Multicast: map[string]evidence.Multicast{}}}
	for _, n := range Names {
		d.s.Latches = append(d.s.Latches, Latch{Name: n, State: Closed})
	}
	d.s.Addressed, _ = body[evidence.Addressed](&d, "")
	if b, _ := body[evidence.Channels](&d, ""); b != nil {
		d.s.Channels = b.Channels
	}
	d.heard(records)
	if r, ok := d.latest[string(evidence.KindLeft)+" "]; ok && r.At.After(d.s.HeardAt) {
		d.s.LeftAt = r.At
	}
	if d.s.Device.Via != nil {
		d.s.Via = cmp.Or(intent.Recorder, d.s.Device.Of, "its recorder")
	}
	d.reachable()
	d.trust()
	d.signedIn()
	d.facts()
	d.s.Offers, _ = body[evidence.Offers](&d, "")
	d.located()
	d.proven()
	d.tuned()
	d.placed()
	d.stuckOnUnreadable()
	d.order()
	return d.s
}

func newer(a, b evidence.Record) bool {
	return a.At.After(b.At) || a.At.Equal(b.At) && a.ID.String() > b.ID.String()
}

type deriver struct {
	latest map[string]evidence.Record
	intent Intent
	s      Status
}

// body reads the latest record of a kind and subject; nil where there is none, or where it cannot be read, which is said.
func body[T evidence.Body](d *deriver, subject string) (*T, *evidence.Record) {
	var of T
	r, ok := d.latest[string(evidence.KindOf(of))+" "+subject]
	if !ok {
		return nil, nil
	}
	out, err := evidence.Decode[T](r)
	if err != nil {
		d.unreadable(r, err)
		return nil, nil
	}
	return &out, &r
}

// latchOf is the latch that a kind of evidence opens. What is not listed opens none.
var latchOf = map[evidence.Kind]Name{evidence.KindHeard: Heard, evidence.KindReached: Reachable, evidence.KindSignedIn: SignedIn,
	evidence.KindLocated: Located, evidence.KindProof: Proven, evidence.KindPlaced: Placed, evidence.KindConfirmed: Confirmed}

// unreadable notes a record that this program cannot read, once. The latch that it would open is stuck on it.
func (d *deriver) unreadable(r evidence.Record, err error) {
	for _, u := range d.s.Unreadable {
		if u.Record == r.ID && u.Subject == r.Subject && u.Kind == r.Kind {
			return
		}
	}
	fix := "Do this step again: what is found then is recorded anew. The old record stays as it is."
	if errors.Is(err, evidence.ErrNewer) {
		fix = "Start the newer version of Unlatch again, or do this step again with this one. The record stays as it is."
	}
	x := Unreadable{Record: r.ID, Kind: r.Kind, Subject: r.Subject, Diagnosis: diagnose.Diagnosis{Cause: trouble.UnreadableRecord,
		Summary: fmt.Sprintf("What was recorded of this device on %s cannot be read.",
			r.At.Format("2006-01-02 15:04")), Fix: fix, Seen: err.Error()}}
	d.s.Unreadable = append(d.s.Unreadable, x)
}

// stuckOnUnreadable marks the latches whose evidence cannot be read.
func (d *deriver) stuckOnUnreadable() {
	slices.SortFunc(d.s.Unreadable, func(a, b Unreadable) int { return strings.Compare(a.Record.String(), b.Record.String()) })
	for i := range d.s.Unreadable {
		u := &d.s.Unreadable[i]
		if n, ok := latchOf[u.Kind]; ok && d.s.Latch(n).State != Open {
			l := d.s.Latch(n)
			l.State, l.Diagnosis, l.Reason = Stuck, &u.Diagnosis, u.Diagnosis.Summary
		}
	}
}

// set opens a latch on a record, or leaves it stuck with the record's diagnosis.
func (d *deriver) set(n Name, r *evidence.Record, diagnosis *diagnose.Diagnosis, reason string) {
	l := d.s.Latch(n)
	l.Since, l.Evidence, l.Reason = &r.At, &r.ID, reason
	l.State = Open
	if diagnosis != nil {
		l.State, l.Diagnosis, l.Reason = Stuck, diagnosis, diagnosis.Summary
	}
}

func (d *deriver) heard(records []evidence.Record) {
	var heard []evidence.Record
	if x, _ := body[evidence.InPack](d, ""); x != nil { // what is heard here goes over it
		d.s.Device = d.s.Device.Add(sighting.Sighting(*x))
		d.s.Device.Methods = nil
		d.s.Latch(Heard).Reason = "The handover pack has it; it was not heard here yet"
	}
	for _, r := range d.latest {
		if r.Kind == evidence.KindHeard {
			heard = append(heard, r)
		}
	}
	slices.SortFunc(heard, func(a, b evidence.Record) int {
		if newer(a, b) {
			return 1
		}
		return -1
	})
	for i := range heard {
		s, r := body[evidence.Heard](d, heard[i].Subject)
		if s == nil {
			continue
		}
		d.s.Device = d.s.Device.Add(sighting.Sighting(*s))
		d.s.HeardAt = r.At
		d.s.Heard = append(d.s.Heard, *s)
		d.set(Heard, r, nil, fmt.Sprintf("Heard at %s", d.s.Device.Addr))
	}
}

func (d *deriver) reachable() {
	l := d.s.Latch(Reachable)
	d.s.Consent = d.intent.Consent
	if d.s.Device.Stray && d.s.Consent.IsZero() {
		l.State = Stuck
		l.Diagnosis = &diagnose.Diagnosis{Cause: trouble.OutOfScope,
			Summary: fmt.Sprintf("%s is outside this site's ranges, so Unlatch does not connect to it.", d.s.Device.Addr),
			Fix:     "Add its range to the site if it belongs there, or give the device an address inside the ranges."}
		l.Reason = l.Diagnosis.Summary
		return
	}
	if len(d.intent.SharedWith) > 0 {
		l.State = Stuck
		l.Diagnosis = &diagnose.Diagnosis{Cause: trouble.AddressConflict,
			Summary: fmt.Sprintf("Two devices claim %s: this one and %s.", d.s.Device.Addr, strings.Join(d.intent.SharedWith, ", ")),
			Fix:     "Unplug one of them and sweep again, or give one another address. If one was replaced by the other, forget the old one."}
		l.Reason = l.Diagnosis.Summary
		return
	}
	b, r := body[evidence.Reached](d, "")
	if b == nil {
		return
	}
	d.s.Reached = b
	d.set(Reachable, r, b.Diagnosis, fmt.Sprintf("The device service answers at %s", b.Addr))
	if b.Stream != "" && l.State == Open {
		l.Reason = fmt.Sprintf("The stream service answers at %s; there is no device service", b.Stream)
		if u, err := streamurl.Parse(b.Stream); err == nil && u.Datagrams() {
			l.Reason = fmt.Sprintf("It sends to %s by itself; there is no device service", b.Stream)
		}
	}
	if l.State == Open && d.s.Device.Addr.IsValid() && b.Addr != d.s.Device.Addr {
		l.State, l.Reason = Stale, fmt.Sprintf("Reached at %s, since heard at %s", b.Addr, d.s.Device.Addr)
	}
}

func (d *deriver) signedIn() {
	b, r := body[evidence.SignedIn](d, "")
	if b == nil {
		return
	}
	d.s.SignedIn = b
	d.set(SignedIn, r, b.Diagnosis, fmt.Sprintf("%q opens the device service", b.Label))
	if b.StreamOnly && b.Diagnosis == nil {
		l := d.s.Latch(SignedIn)
		if l.Reason = fmt.Sprintf("%q opens the stream service", b.Label); b.Label == "" {
			l.Reason = "The stream service wants no sign-in"
		}
	}
	if d.s.Via != "" && b.Diagnosis == nil {
		d.s.Latch(SignedIn).Reason = fmt.Sprintf("%q opens %s, and its channels with it", b.Label, d.s.Via)
	}
	if d.s.Before.IsValid() && b.Diagnosis == nil {
		l := d.s.Latch(SignedIn)
		l.State, l.Reason = Stale, fmt.Sprintf("It was signed in to at %s; what answers at %s has not shown yet that it is the same device",
			d.s.Before, d.s.Device.Addr)
	}
	if b.Recorder {
		d.s.Device.Kind = "recorder"
	}
	if b.Open && b.Diagnosis == nil {
		l := d.s.Latch(SignedIn)
		l.State = Stuck
		l.Diagnosis = &diagnose.Diagnosis{Cause: trouble.FactoryFresh,
			Summary: "The device lets anyone in: it has no account yet, as it came from the factory.",
			Fix:     "Claim it: give it its first account with a good password.",
			Seen:    "GetDeviceInformation was answered without a sign-in"}
		l.Reason = l.Diagnosis.Summary
	}
}

// trust works out what may be sent to the device: whether it is known again after a move, what it has taken before, and who else claims
// to be it.
func (d *deriver) trust() {
	d.s.Schemes, d.s.OpenedUnder = map[string]string{}, map[string]string{}
	for _, r := range d.latest {
		switch r.Kind {
		case evidence.KindOpenedUnder:
			if b, _ := body[evidence.OpenedUnder](d, r.Subject); b != nil && b.Certificate != "" {
				d.s.OpenedUnder[r.Subject] = b.Certificate
			}
		case evidence.KindScheme:
			if b, _ := body[evidence.Scheme](d, r.Subject); b != nil {
				d.s.Schemes[r.Subject] = b.Scheme
			}
		case evidence.KindClaimed:
			if b, _ := body[evidence.Claimed](d, r.Subject); b != nil && !b.Dismissed && b.Addr != d.s.Device.Addr {
				d.s.Claims = append(d.s.Claims, *b)
			}
		}
	}
	slices.SortFunc(d.s.Claims, func(a, b evidence.Claimed) int { return a.Addr.Compare(b.Addr) })
	if d.intent.Agreed != nil {
		d.s.Agreed, d.s.AgreedTo = d.intent.Agreed(d.s.Device.Model())
	}
	reached, at := body[evidence.Reached](d, "")
	if reached == nil || reached.Before == nil || reached.Known != "" {
		return
	}
	if in, since := body[evidence.SignedIn](d, ""); in != nil && in.Diagnosis == nil && newer(*since, *at) {
		return // it has taken the sign-in since: by a hash, which gives nothing away, or after a person has agreed
	}
	if moved := d.s.Addressed; moved != nil && moved.Diagnosis == nil && !moved.Pending && moved.After.Addr == reached.Addr {
		return // it was given this address, and was found there by what it told when it was signed in to
	}
	d.s.Before = *reached.Before
	if !d.s.Agreed.After(at.At) {
		d.s.Agreed, d.s.AgreedTo = time.Time{}, signin.NotAgreed
	}
}

// facts reads what is known of a device and opens no latch.
func (d *deriver) facts() {
	if b, _ := body[evidence.StreamKey](d, ""); b != nil && !b.Removed {
		d.s.StreamKey = b
	}
	d.s.Web, _ = body[evidence.Web](d, "")
	d.s.Pin, _ = body[evidence.Pin](d, "")
	d.s.View, _ = body[evidence.View](d, "")
	if b, _ := body[evidence.Marked](d, ""); b != nil {
		d.s.PutBack.Mark = !b.Pending && b.Diagnosis == nil
		if b.Pending {
			d.s.Marked = b
		}
	}
	if b, r := body[evidence.Walked](d, ""); b != nil && !b.Unsaid {
		d.s.Walked = &Walk{b.By, r.At}
	}
	d.s.Pictures = map[string]evidence.Picture{}
	for _, kind := range []string{"snapshot", "mjpeg"} {
		if b, _ := body[evidence.Picture](d, kind); b != nil {
			d.s.Pictures[kind] = *b
		}
	}
	d.s.Outside = map[string]evidence.Outside{}
	for _, role := range camera.Roles {
		if b, _ := body[evidence.Outside](d, role); b != nil {
			d.s.Outside[role] = *b
		}
	}
	d.commanded()
	d.s.PutBack.Fixes = map[evidence.FixAction]bool{}
	for _, a := range []evidence.FixAction{evidence.FixStreams, evidence.FixClock, evidence.FixStreamUser} {
		if b, _ := body[evidence.Fix](d, string(a)); b != nil && b.Diagnosis == nil && (!b.Undone || b.Pending) {
			d.s.Fixes = append(d.s.Fixes, *b)
		} else if b != nil {
			d.s.PutBack.Fixes[a] = b.Diagnosis == nil && b.Undone
		}
	}
}

// commanded reads what the device was told on its maker's own page.
func (d *deriver) commanded() {
	d.s.PutBack.Commands = map[string]bool{}
	for _, r := range d.latest {
		if r.Kind != evidence.KindCommanded {
			continue
		}
		b, _ := body[evidence.Commanded](d, r.Subject)
		switch {
		case b == nil:
		case b.Diagnosis == nil && (!b.Undone || b.Pending), b.Diagnosis != nil && b.After != nil && !b.Command.Same(b.After, b.Before):
			d.s.Commanded = append(d.s.Commanded, *b)
		default:
			d.s.PutBack.Commands[r.Subject] = b.Diagnosis == nil
		}
	}
	slices.SortFunc(d.s.Commanded, func(a, b evidence.Commanded) int { return strings.Compare(a.Command.Name, b.Command.Name) })
}

func (d *deriver) located() {
	b, r := body[evidence.Located](d, "")
	given, newest := d.given()
	if b == nil && len(given) == 0 {
		return
	}
	if b == nil {
		b, r = &evidence.Located{Addr: d.s.Device.Addr}, newest
	} else {
		d.s.Located = b
	}
	d.s.Streams = d.streams(b.Streams, given)
	for _, st := range d.s.Streams {
		if b, _ := body[evidence.Multicast](d, st.Token); b != nil {
			d.s.Multicast[st.Role] = *b
		}
	}
	reason := fmt.Sprintf("The device names %d stream URLs", len(b.Streams))
	if b.Recipe != "" {
		reason = fmt.Sprintf("The recipe %q fits", b.Recipe)
	}
	diagnosis := b.Diagnosis
	if len(given) > 0 {
		reason = fmt.Sprintf("%d by the device, %d given by a person", len(b.Streams), len(given))
		if len(b.Streams) == 0 {
			diagnosis, reason = nil, fmt.Sprintf("A person has given %d stream URLs", len(given))
		}
	}
	d.set(Located, r, diagnosis, reason)
	for _, st := range b.Streams {
		u, err := streamurl.Parse(st.URL)
		if err != nil || !d.s.Device.Addr.IsValid() {
			continue
		}
		at := u.Host // old records do not say where the device was
		if b.Addr.IsValid() {
			at = b.Addr.String()
		}
		if at != d.s.Device.Addr.String() {
			l := d.s.Latch(Located)
			l.State, l.Reason = Stale, fmt.Sprintf("The URLs were named at %s, where the device no longer is", at)
		}
	}
}

// given returns the streams that a person has given, the oldest first, and the record of the newest. A URL at the device's own address
// follows the device to where it is now.
func (d *deriver) given() (out []camera.Stream, newest *evidence.Record) {
	var records []*evidence.Record
	for _, r := range d.latest {
		if r.Kind == evidence.KindByHand {
			records = append(records, &r)
		}
	}
	slices.SortFunc(records, func(a, b *evidence.Record) int {
		return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Subject, b.Subject))
	})
	for _, r := range records {
		b, _ := body[evidence.StreamByHand](d, r.Subject)
		if b == nil {
			continue
		}
		if d.s.ByHand = append(d.s.ByHand, *b); b.Removed {
			continue
		}
		if u, err := streamurl.Parse(b.Stream.URL); err == nil && u.Host == b.Addr.String() && d.s.Device.Addr.IsValid() {
			u.Host = d.s.Device.Addr.String()
			b.Stream.URL = u.String()
		}
		b.Stream.Role = ""
		out, newest = append(out, b.Stream), r
	}
	return out, newest
}

// streams gives the streams their roles: those of a person first, then those that they had when they were named. A stream that a person has
// given has the third role before any that the device names.
func (d *deriver) streams(named, given []camera.Stream) []camera.Stream {
	all := slices.Concat(named, given)
	roles := map[string]string{}
	taken := map[string]bool{}
	for token, role := range d.intent.Roles {
		roles[token], taken[role] = role, true
	}
	if last := camera.Roles[len(camera.Roles)-1]; len(all) > len(camera.Roles) && len(given) > 0 && !taken[last] {
		if token := given[0].Token; roles[token] == "" {
			roles[token], taken[last] = last, true
		}
	}
	for _, s := range named {
		if _, known := roles[s.Token]; !known && !taken[s.Role] {
			roles[s.Token] = s.Role
		}
	}
	return camera.GiveRoles(all, roles)
}

// Proves reports whether a stream's proof is of what the stream is now: its URL, and the settings that the device claims for it.
func (s *Status) Proves(st camera.Stream) bool {
	p, ok := s.Proofs[st.Role]
	return ok && p.OK && p.PlainURL == st.URL && !changed(p, st)
}

// changed reports whether a proof was made with other settings than the device claims now. One that does not say is taken as it is.
func changed(p evidence.Proof, st camera.Stream) bool {
	now := st.Claimed.Fingerprint()
	return p.Settings != "" && now != "" && p.Settings != now
}

// proof returns the latest proof of a stream. Records of the time when streams were known by their tier are filed under that.
func (d *deriver) proof(st camera.Stream) (*evidence.Proof, *evidence.Record) {
	if p, r := body[evidence.Proof](d, st.Token); p != nil {
		return p, r
	}
	if p, r := body[evidence.Proof](d, st.Role); p != nil && p.Role == "" && p.PlainURL == st.URL {
		return p, r
	}
	return nil, nil
}

// proven is open when every stream, as it is known now, was played.
func (d *deriver) proven() {
	proven := 0
	l := d.s.Latch(Proven)
	for _, st := range d.s.Streams {
		p, r := d.proof(st)
		if p == nil {
			continue
		}
		if p.PlainURL != st.URL {
			l.State, l.Reason = Stale, fmt.Sprintf("The URL of the %s stream has changed since it was played", st.Role)
			continue
		}
		d.s.Proofs[st.Role] = *p
		if p.Diagnosis == nil && changed(*p, st) {
			l.State, l.Reason = Stale, fmt.Sprintf("The settings of the %s stream have changed since it was played", st.Role)
			continue
		}
		if p.Diagnosis != nil {
			d.refused(st.Role, p, r)
			d.set(Proven, r, p.Diagnosis, "")
			l.Reason = fmt.Sprintf("The %s stream: %s", st.Role, p.Diagnosis.Summary)
			return
		}
		proven++
		if l.Since == nil || r.At.After(*l.Since) {
			l.Since, l.Evidence = &r.At, &r.ID
		}
	}
	if proven > 0 && proven == len(d.s.Streams) {
		l.State, l.Reason = Open, fmt.Sprintf("%d of %d streams played and measured", proven, len(d.s.Streams))
	}
}

// refused moves a stream's refusal of the sign-in to the latch that it belongs to.
func (d *deriver) refused(tier string, p *evidence.Proof, r *evidence.Record) {
	if d.s.SignedIn == nil || p.Diagnosis.Cause != trouble.WrongSignIn && p.Diagnosis.Cause != trouble.NoSignIn {
		return
	}
	if _, since := body[evidence.SignedIn](d, ""); newer(*since, *r) {
		return // signed in anew since the stream was played
	}
	if key, since := body[evidence.StreamKey](d, ""); key != nil && newer(*since, *r) {
		return // the streams have had another sign-in since
	}
	d.set(SignedIn, r, &diagnose.Diagnosis{Cause: trouble.StreamRefuses,
		Summary: fmt.Sprintf("%q opens the device service, but the %s stream refuses it.", d.s.SignedIn.Label, tier),
		Fix: "The device keeps users of its own for streams. Make a stream user: one that may watch and nothing else. " +
			"Or add the right sign-in to the keyring.",
		Seen: p.Diagnosis.Seen}, "")
}

// channel opens the last latches of a camera on a recorder's own switch that is wanted on no other target: the recorder lists it as its
// channel, and has said and shown that its picture arrives.
func (d *deriver) channel() {
	proven := d.s.Latch(Proven)
	l := d.s.Latch(Placed)
	l.State, l.Since, l.Evidence = Open, proven.Since, proven.Evidence
	l.Reason = fmt.Sprintf("Channel %d of %s, by its own switch", d.s.Device.Channel, d.s.Via)
	b, r := body[evidence.Confirmed](d, d.s.Device.Via.String())
	if b == nil {
		d.s.Latch(Confirmed).Reason = d.s.Via + " has not been asked whether its picture arrives"
		return
	}
	reason := fmt.Sprintf("%s reports %s", d.s.Via, b.Says)
	if b.Match == string(picturematch.Same) {
		reason += ", and its recording shows this picture"
	}
	d.set(Confirmed, r, b.Diagnosis, reason)
}

// order makes the first latch that is neither open nor waived the one to work on, and everything behind it wait for it: a
// latch that was open behind one that no longer is has gone stale.
func (d *deriver) order() {
	broken := false
	for i := range d.s.Latches {
		l := &d.s.Latches[i]
		switch {
		case broken && l.State == Open:
			l.State = Stale
		case broken && (l.State == Stuck || l.State == Waiting):
			l.State = Closed
		case !broken && l.State == Closed:
			l.State = Next
			broken = true
			if l.Name == Placed && len(d.intent.Targets) == 0 {
				l.Reason = "Choose a target to put it on"
			}
		case !broken && l.State != Open && l.State != Waived:
			broken = true
		}
	}
}
