package drift

import (
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
)

// A Severity says how much a cause matters.
type Severity int

// The severities.
const (
	Notice  Severity = iota // something is otherwise, and everything works
	Warning                 // something works worse, or will not work for long
	Urgent                  // a picture is missing, or somebody else may have the device
)

// String returns the severity as it is written in rules and messages.
func (s Severity) String() string { return [...]string{"notice", "warning", "urgent"}[s] }

// ParseSeverity reads what String writes, and reports whether it is one.
func ParseSeverity(text string) (Severity, bool) {
	for s := Notice; s <= Urgent; s++ {
		if s.String() == text {
			return s, true
		}
	}
	return Notice, false
}

// A saying is what people are told of a cause. Titles have one %s, what it is about.
type saying struct {
	severity Severity
	title    string
	many     string // of several devices, with one %d
	do       string
}

var sayings = map[Cause]saying{
	Silent: {Urgent, "%s does not answer", "%d cameras do not answer",
		"Look at its power, its cable and the switch port. It is opened again by itself when it answers."},
	Factory: {Urgent, "%s was reset: it lets anyone in", "%d cameras were reset: they let anyone in",
		"Claim it: give it its account again, then put its settings back."},
	Password: {Urgent, "%s refuses the sign-in that opened it", "%d cameras refuse the sign-in that opened them",
		"Ask who has changed the password and add the new one to the keyring. It is not sent again by itself."},
	OtherSignIn: {Notice, "Another sign-in opens %s", "Other sign-ins open %d cameras", "Accept it if that was meant."},
	Replaced: {Urgent, "Another device answers in place of %s", "Other devices answer in place of %d cameras",
		"If it was replaced, say so: the new camera takes over its name, plans and slots. If not, find out who has put it there."},
	Claimed: {Urgent, "Another device says that it is %s", "Other devices say that they are %d of the cameras",
		"Find out who has brought it. It is sent nothing, and the camera stays where it was. Once you know, set it aside on the camera's bench."},
	Swapped: {Urgent, "%s has changed places with another camera", "%d cameras have changed places",
		"Swap their cables back, or accept it if they were moved on purpose."},
	Moved: {Warning, "%s has another address", "%d cameras have other addresses",
		"Give it the agreed address back, or reserve the new one where addresses are given out."},
	Firmware: {Notice, "%s has another firmware", "%d cameras have another firmware",
		"Accept it if somebody has updated it. Settings that came with it can be put back."},
	Clock: {Notice, "The clock of %s is wrong", "The clocks of %d cameras are wrong", "Set it, and give it a time server."},
	Certificate: {Warning, "%s shows another certificate", "%d cameras show other certificates",
		"Look at it, and accept it if it was renewed."},
	Black: {Urgent, "The picture of %s is black", "The pictures of %d cameras are black",
		"Go and look: the sensor sees no light at all."},
	Covered: {Urgent, "Something stands before the lens of %s", "Something stands before the lenses of %d cameras",
		"Go and look at it."},
	Turned: {Urgent, "%s looks at another place", "%d cameras look at other places", "Turn it back, or accept what it shows now."},
	Blurred: {Warning, "The picture of %s is out of focus", "The pictures of %d cameras are out of focus",
		"Clean the lens, then set its focus."},
	NotAgreed: {Notice, "%s is new at the site", "%d devices are new at the site", "Agree on it, or find out who has brought it."},
	NotPlaying: {Urgent, "A stream of %s does not play", "Streams of %d cameras do not play",
		"Open its latches: what keeps it from playing stands there."},
	Settings: {Warning, "The streams of %s are set otherwise", "The streams of %d cameras are set otherwise",
		"Put the agreed settings back."},
	Smaller: {Warning, "The picture of %s is not what it was", "The pictures of %d cameras are not what they were",
		"Look who plays it besides: it may send a smaller picture to everybody."},
	Slower: {Warning, "Fewer pictures come from %s", "Fewer pictures come from %d cameras",
		"Look at the way to it, and at how many play it."},
	Starved: {Notice, "The bitrate of %s is far from what it was", "The bitrates of %d cameras are far from what they were",
		"Look at the picture: nothing that moves needs few bits, rain and noise need many."},
	Soundless: {Notice, "The sound of %s is not what it was", "The sound of %d cameras is not what it was",
		"Look at its microphone setting."},
	Path: {Warning, "A stream of %s has another URL", "Streams of %d cameras have other URLs",
		"Place it again on what has the old one."},
	GroupTaken: {Urgent, "Another device sends to the group of %s", "Other devices send to the groups of %d cameras",
		"Give one of them another group."},
	Way: {Notice, "%s plays another way than before", "%d cameras play another way than before",
		"Look what has changed between it and this machine."},
	RelayDown: {Urgent, "%s is not served on", "%d streams are not served on",
		"Look whether the worker runs, and at what the platform says. It goes on by itself when both do."},
	SlotLost: {Urgent, "%s is no longer in its slot", "%d cameras are no longer in their slots",
		"Put back what belongs there. If it goes again, somebody works on the target, or it forgets."},
	SlotTaken: {Urgent, "Another camera is in the slot of %s", "Other cameras are in the slots of %d",
		"Put it back, or choose another slot."},
	WrongPicture: {Urgent, "Another camera is shown for %s", "Other cameras are shown for %d",
		"Put it right: the slot is given its streams again."},
	NotShown:  {Urgent, "The picture of %s does not arrive", "The pictures of %d cameras do not arrive", "Place it again."},
	OtherSlot: {Notice, "%s stands otherwise than agreed", "%d cameras stand otherwise than agreed", "Accept it if that was meant."},
	TargetSilent: {Urgent, "%s cannot be asked", "%d targets cannot be asked",
		"Look at its power and network. What it shows is not known meanwhile."},
	OtherTarget: {Urgent, "Another machine answers in place of %s", "Other machines answer in place of %d targets",
		"Look at it before anything is sent there."},
}

// Severity says how much the cause matters.
func (c Cause) Severity() Severity { return sayings[c].severity }

// Known reports whether the cause is one of this package's: others were kept by a newer program.
func (c Cause) Known() bool { _, ok := sayings[c]; return ok }

// Headline says in one line what a finding is.
func (f Finding) Headline() string {
	s, ok := sayings[f.Cause]
	if !ok {
		return f.Title + " is otherwise than agreed"
	}
	switch n := len(f.Under) + 1; {
	case f.Cause == Swapped && n == 2:
		return f.Title + " and " + f.Under[0].Title + " have changed places"
	case n > 1:
		return fmt.Sprintf(s.many, n) + f.ground()
	}
	title := fmt.Sprintf(s.title, f.Title)
	if f.Cause == RelayDown {
		return title + " for " + f.Of
	}
	if f.onTarget() {
		title += " (" + f.Of + ")"
	} else if f.Of != "" {
		title += ", " + f.Of + " stream"
	}
	return title
}

// onTarget reports whether a drift is about what a target has of a device.
func (d Drift) onTarget() bool {
	_, err := uuid.Parse(d.Subject)
	return err == nil && d.Device != uuid.Nil
}

// ground says what the drifts of a finding have in common.
func (f Finding) ground() string {
	switch kind, of, _ := strings.Cut(f.Shared, " "); kind {
	case "subnet":
		return " in " + of
	case "target":
		return " on " + f.Of
	case "sign-in":
		return " (" + of + ")"
	case "firmware":
		return ": " + of
	case "worker":
		return " by the worker at " + of
	}
	return ""
}

// Why says what speaks for the cause, in whole sentences.
func (f Finding) Why() string {
	var out []string
	if n := len(f.Under) + 1; n > 1 {
		switch kind, of, _ := strings.Cut(f.Shared, " "); kind {
		case "subnet":
			out = append(out, fmt.Sprintf("All %d are in %s and went within minutes: look at the switch or the link between, before any camera.",
				n, of))
		case "recorder":
			out = append(out, allOf(n)+" are reached through one recorder.")
		case "target":
			out = append(out, allOf(n)+" stood on one target.")
		case "sign-in":
			out = append(out, allOf(n)+" were opened by one sign-in: it was changed on them together.")
		}
	}
	for _, h := range f.Hints {
		out = append(out, hints[h])
	}
	if len(f.Also) > 0 {
		var words []string
		for _, c := range f.Also {
			words = append(words, alternatives[c])
		}
		out = append(out, "It may also be that "+strings.Join(words, ", or that ")+".")
	}
	if f.Flaps > 0 {
		out = append(out, fmt.Sprintf("It came and went %d times within a day.", f.Flaps+1))
	}
	return strings.Join(out, " ")
}

func allOf(n int) string {
	if n == 2 {
		return "Both"
	}
	return fmt.Sprintf("All %d", n)
}

var hints = map[Hint]string{
	SaidGoodbye:  "It said goodbye before: it was switched off or restarted.",
	LetsAnyoneIn: "It answered a question without any sign-in.",
	AllReset:     "Every stream is set otherwise, as after a reset to factory settings.",
	WithFirmware: "The settings changed with it.",
	SameModel:    "What answers is of the same model.",
	Unknown:      "Nothing says yet that it is the same device: no sign-in was sent to it.",
	ByUs:         "Somebody has changed it with Unlatch.",
}

// alternatives are causes as the rest of "it may also be that".
var alternatives = map[Cause]string{
	Factory:  "it was reset and has another account",
	Replaced: "it was replaced by another device",
	Covered:  "something covers the lens",
	Turned:   "it was turned",
}

// Do says what to do about it.
func (f Finding) Do() string {
	if f.Cause == Silent && len(f.Under) > 0 {
		return "Look at what they share first. Each is opened again by itself when it answers."
	}
	return sayings[f.Cause].do
}

// Changed returns the changes of the finding's first drift as sentences.
func (f Finding) Changed() (out []string) {
	for _, c := range f.Fields {
		out = append(out, c.String())
	}
	return out
}

// Parts are what of the agreed state the drift differs from.
func (d Drift) Parts() (out []baseline.Part) {
	for _, c := range d.Fields {
		out = append(out, baseline.Part{Field: c.Field, Subject: c.Subject})
	}
	return out
}
