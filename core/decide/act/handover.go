package act

import (
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/siteplan"
	language "unlatch/core/decide/words"
	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
	"unlatch/core/ground/yamlfile"
)

// WaiveFinding says that things are handed over all the same, although a finding concerns them.
type WaiveFinding struct {
	Site   uuid.UUID
	Cause  ready.Cause
	Things []uuid.UUID // devices, targets or the site
	Titles []string    // what they are called
	Reason string
}

// About implements Act.
func (a WaiveFinding) About() About { return About{Name: "waive-finding", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a WaiveFinding) Decide(Facts) (Outcome, error) {
	a.Reason = strings.TrimSpace(wiretext.Line(a.Reason, longestReason))
	switch {
	case !a.Cause.Valid() || len(a.Things) == 0:
		return Outcome{}, refuse("no_finding", "There is no such finding.", "Look again: it may have been mended.")
	case a.Reason == "":
		return Outcome{}, refuse("no_reason", "The waiver has no reason.", "Say why it is handed over all the same: it stands in the papers.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: strings.Join(a.Titles, ", "), After: string(a.Cause) + ": " + a.Reason}}, nil
}

// WithdrawWaiver takes waivers back.
type WithdrawWaiver struct {
	Site   uuid.UUID
	Cause  ready.Cause
	Things []uuid.UUID
	Titles []string
}

// About implements Act.
func (a WithdrawWaiver) About() About {
	return About{Name: "withdraw-waiver", Right: Work, Site: a.Site}
}

// Decide implements Act.
func (a WithdrawWaiver) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: strings.Join(a.Titles, ", "), Before: string(a.Cause)}}, nil
}

// AttestItem says that an item of the checklist is done, or takes that back.
type AttestItem struct {
	Site  uuid.UUID
	Item  string
	Title string // of the item; "" where the checklist has none of that name, or evidence ticks it
	Note  string
	Undo  bool
}

// About implements Act.
func (a AttestItem) About() About { return About{Name: "attest-item", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a AttestItem) Decide(Facts) (Outcome, error) {
	a.Note = wiretext.Line(a.Note, longestReason)
	if a.Title == "" {
		return Outcome{}, refuse("no_item", "The checklist has no such item that a person attests.", "Look at the checklist again.")
	}
	line := Line{Subject: a.Title, After: "done"}
	if a.Undo {
		line.Before, line.After = "done", "not done"
	}
	return Outcome{Keep: []any{a}, Line: line}, nil
}

// PutChecklist keeps a checklist: that of a site, or the firm's. An empty one takes it away.
type PutChecklist struct {
	Site uuid.UUID // the nil UUID for the firm's
	YAML string
}

// About implements Act.
func (a PutChecklist) About() About {
	return About{Name: "put-checklist", Right: Arrange, Site: a.Site}
}

// Decide implements Act.
func (a PutChecklist) Decide(f Facts) (Outcome, error) {
	line := Line{Subject: "of the firm"}
	if a.Site != uuid.Nil {
		line.Subject = f.Site.Name
	}
	if strings.TrimSpace(a.YAML) == "" {
		a.YAML, line.After = "", "none of its own"
		return Outcome{Keep: []any{a}, Line: line}, nil
	}
	list, err := ready.ReadChecklist([]byte(a.YAML))
	if bad := new(yamlfile.Error); errors.As(err, &bad) {
		return Outcome{}, refuse("bad_checklist", sentence(bad.Error()), "Mend it there. What was kept before still stands.")
	} else if err != nil {
		return Outcome{}, err
	}
	line.After = fmt.Sprintf("%s: %d items", list.Name, len(list.Items))
	return Outcome{Keep: []any{a}, Line: line}, nil
}

// SetFirm says whose papers these are.
type SetFirm struct {
	Name   string
	Raw    []byte // a new mark as it was brought; nil to keep the one that is there
	NoMark bool   // takes the mark away
	Mark   *siteplan.Picture
}

// MostMark is how large a firm's mark may be, in bytes.
const MostMark = 4 << 20

// About implements Act.
func (a SetFirm) About() About { return About{Name: "set-firm", Right: Arrange} }

// Decide implements Act.
func (a SetFirm) Decide(Facts) (Outcome, error) {
	a.Name = wiretext.Line(a.Name, longestName)
	line := Line{Subject: a.Name, After: "the mark as it was"}
	switch {
	case a.NoMark:
		line.After = "no mark"
	case a.Raw != nil:
		if len(a.Raw) > MostMark {
			return Outcome{}, refuse("mark_too_large", fmt.Sprintf("The mark is larger than %d MB.", MostMark>>20), "Bring a smaller picture.")
		}
		if head := strings.ToLower(string(a.Raw[:min(len(a.Raw), 1024)])); strings.Contains(head, "<svg") || strings.Contains(head, "<?xml") {
			return Outcome{}, refuse("mark_is_svg", "The mark is an SVG drawing, which can hold programs.", "Bring it as PNG or JPEG.")
		}
		picture, err := siteplan.Read(a.Raw)
		if no := new(siteplan.BadPictureError); errors.As(err, &no) {
			return Outcome{}, refuse("bad_mark", sentence(no.Problem), no.Fix)
		} else if err != nil {
			return Outcome{}, err
		}
		a.Mark, a.Raw, line.After = picture, nil, fmt.Sprintf("a mark of %d×%d pixels", picture.Width, picture.Height)
	}
	return Outcome{Keep: []any{a}, Line: line}, nil
}

// MakeHandover makes a version of the handover pack. With recipients or a passphrase the sign-ins are sealed into it, which is handing
// them out.
type MakeHandover struct {
	Site uuid.UUID
	ID   uuid.UUID // of the version
	HandoverForm
	Passphrase signin.Secret
}

// A HandoverForm is how a version is to be made.
type HandoverForm struct {
	Language   string            `json:"language"`
	Size       paper.Size        `json:"size"`
	Labels     *paper.LabelSheet `json:"labels,omitempty"`
	Recipients string            `json:"recipients,omitempty"`
	Seal       bool              `json:"seal,omitempty"`    // sign-ins are sealed into it
	Base       string            `json:"base,omitempty"`    // the address of Unlatch
	Program    string            `json:"program,omitempty"` // its version
}

// About implements Act.
func (a MakeHandover) About() About {
	out := About{Name: "make-handover", Right: Work, Site: a.Site}
	if a.seals() {
		out.Right = Reveal
	}
	return out
}

func (a MakeHandover) seals() bool {
	return strings.TrimSpace(a.Recipients) != "" || !a.Passphrase.Empty()
}

// Decide implements Act.
func (a MakeHandover) Decide(f Facts) (Outcome, error) {
	if a.Language = language.In(a.Language).Tag; a.Size != paper.Letter {
		a.Size = paper.A4
	}
	if a.Labels != nil {
		if err := a.Labels.Check(); err != nil {
			return Outcome{}, refuse("bad_labels", sentence(err.Error()), "Change the sizes of the labels.")
		}
	}
	line := Line{Subject: f.Site.Name, After: "without sign-ins"}
	if a.seals() {
		how, err := sealed.Check(a.Recipients, a.Passphrase)
		if bad := new(sealed.RecipientError); errors.As(err, &bad) {
			return Outcome{}, refuse("bad_recipients", "The recipients: "+bad.Error()+".", "Give one public key a line.")
		} else if err != nil {
			return Outcome{}, refuse("bad_seal", sentence(err.Error()), "Give public keys, or a passphrase of at least 12 characters.")
		}
		line.After = "sign-ins sealed to a passphrase"
		if len(how.Recipients) > 0 {
			line.After = "sign-ins sealed to " + strings.Join(how.Recipients, ", ")
		}
		a.Seal = true
	}
	return Outcome{Keep: []any{a}, Line: line, Work: &command.Work{Kind: "handover", Title: "Make the handover pack", Steps: 100,
		Site: &command.OnSite{Pack: &command.Pack{Version: a.ID}}}}, nil
}

// HandoverMade says in the record that a version was made, with the hash of its manifest. A worker does it in the name of the person who
// began the making.
type HandoverMade struct {
	Site     uuid.UUID
	ID       uuid.UUID
	Manifest handover.Manifest
}

// About implements Act.
func (a HandoverMade) About() About { return About{Name: "handover-made", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a HandoverMade) Decide(f Facts) (Outcome, error) {
	after := "SHA-256 of its manifest " + a.Manifest.Hash
	if s := a.Manifest.Sealed; s != nil {
		after += fmt.Sprintf("; %d sign-ins sealed", s.SignIns)
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: fmt.Sprintf("%s, version %d", f.Site.Name, a.Manifest.Number), After: after}}, nil
}

// SignHandover signs a version of the pack on the screen.
type SignHandover struct {
	Site    uuid.UUID
	Version uuid.UUID
	Number  int
	Hash    string // of the version's manifest
	Name    string // of who signs
	Strokes []handover.Stroke
	SignOff handover.SignOff // set by Decide
}

// About implements Act.
func (a SignHandover) About() About {
	return About{Name: "sign-handover", Right: Look, Site: a.Site, InPerson: true}
}

// Decide implements Act.
func (a SignHandover) Decide(f Facts) (Outcome, error) {
	var err error
	if a.SignOff, err = handover.Sign(a.Hash, a.Name, f.By.Name, f.Now, a.Strokes); err != nil {
		return Outcome{}, refuse("bad_signature", sentence(err.Error()), "Type your name and draw your signature into the field.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: fmt.Sprintf("%s, version %d", f.Site.Name, a.Number),
		After: "by " + a.SignOff.Name + "; SHA-256 of the manifest " + a.Hash}}, nil
}

// OpenPack makes a site of a pack from elsewhere: everything in it becomes intent, and nothing counts as measured.
type OpenPack struct {
	Manifest handover.Manifest
	Pack     *handover.Pack
	Taken    handover.Taken
	Pictures map[uuid.UUID]siteplan.Picture // of the site plans
	Books    []handover.Book
	SignIns  []handover.SealedSignIn // that were unsealed; none where nobody could
	Raw      []byte                  // handover.json
	Here     bool                    // the site is here already
	// Keys are the entries of the keyring here, by those of the pack. Decide fills them in.
	Keys map[uuid.UUID]uuid.UUID
}

// About implements Act.
func (a OpenPack) About() About { return About{Name: "open-pack", Right: Arrange} }

// Decide implements Act.
func (a OpenPack) Decide(Facts) (Outcome, error) {
	if a.Here {
		return Outcome{}, refuse("pack_here", "The site of this pack is here already.",
			"Compare the pack's version with the site as it is now, or remove the site first.")
	}
	a.Keys = map[uuid.UUID]uuid.UUID{}
	for _, s := range a.SignIns {
		a.Keys[s.ID] = uuid.Must(uuid.NewV7())
	}
	after := fmt.Sprintf("version %d by %s: %d devices, %d sign-ins", a.Manifest.Number, a.Manifest.By, len(a.Taken.Devices), len(a.SignIns))
	site := CreateSite{ID: a.Taken.Site, SiteForm: SiteForm{Name: a.Taken.Name, Ranges: a.Taken.Ranges}}
	return Outcome{Keep: []any{site, a}, Line: Line{Subject: a.Taken.Name, Site: a.Taken.Site, After: after}}, nil
}

// NewSignIns returns the sign-ins of the pack as they go onto the keyring: each for the devices that it opened, and for no others.
func (a OpenPack) NewSignIns() (list NewSignIns) {
	known := map[uuid.UUID]bool{}
	for _, d := range a.Taken.Devices {
		known[d.ID] = true
	}
	for _, s := range a.SignIns {
		terms := signin.For(signin.Purpose(""))
		for _, d := range s.Devices {
			if known[d] {
				terms.Devices = append(terms.Devices, d)
			}
		}
		site := a.Taken.Site
		terms.Site, terms.Note = &site, "from the handover pack"
		if len(terms.Devices) == 0 { // of a target
			terms.Bound, terms.Purpose = false, signin.Target
		}
		list = append(list, signin.New{ID: a.Keys[s.ID], Label: s.Label, User: s.User, Secret: s.Secret, Terms: terms})
	}
	return list
}
