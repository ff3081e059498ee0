// Package diagnose says in the user's terms why something did not work, and what to do. Errors of core tell their cause and
// facts themselves (package trouble); a caller adds the facts that no error carries, and the tables of this package hold the
// sentences. What a measured stream or group is found to lack is decided and worded here too.
package diagnose

import (
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"unlatch/core/ground/trouble"
)

// A Diagnosis is the most likely cause, what was seen, and what to do.
type Diagnosis struct {
	Cause   trouble.Cause `json:"cause"`
	Summary string        `json:"summary" doc:"what happened and why, in one or two sentences"`
	Fix     string        `json:"fix" doc:"what to do next"`
	Seen    string        `json:"seen,omitempty" doc:"the observation that proves it"`
	// Until is when the wait that the diagnosis speaks of ends.
	Until *time.Time `json:"until,omitempty" doc:"when the device may be tried again"`
	// Wanted is how a sign-in was wanted that was not sent; nil where the diagnosis is about something else.
	Wanted *trouble.Wanted `json:"wanted,omitempty" doc:"how a sign-in was wanted that was not sent"`
}

// Facts are what the caller knows besides the error.
type Facts struct {
	Host   string // address of the device
	Port   int    // the port that was asked; 0 where there was none
	Asking string // "the stream", "the device service", "the recorder"
	User   string // the user name that was tried
	Target bool   // a target was asked, and no camera
}

func (f Facts) at() string {
	if f.Port == 0 {
		return f.Host
	}
	return net.JoinHostPort(f.Host, fmt.Sprint(f.Port))
}

// Explain words the trouble that err tells. It never returns an empty diagnosis.
func Explain(err error, f Facts) Diagnosis {
	t, teller := trouble.Of(err)
	d := word(t, teller.Error(), f)
	if d.Seen == "" {
		d.Seen = err.Error()
	}
	return d
}

// word makes the sentences about t. text is the message of the error that tells it.
func word(t trouble.Trouble, text string, f Facts) Diagnosis {
	if f.Asking == "" {
		f.Asking = "the device"
	}
	said := sentencesFor(t, f.Target)
	put := []string{"{asking}", f.Asking, "{Asking}", Capital(f.Asking), "{host}", f.Host, "{port}", fmt.Sprint(f.Port),
		"{at}", f.at(), "{user}", strconv.Quote(f.User), "{error}", text, "{Error}", Capital(text)}
	for name, value := range t.Facts {
		put = append(put, "{"+name+"}", fmt.Sprint(value), "{"+Capital(name)+"}", Capital(fmt.Sprint(value)))
	}
	fill := strings.NewReplacer(put...)
	d := Diagnosis{Cause: t.Cause, Summary: fill.Replace(said.summary), Fix: fill.Replace(said.fix), Seen: t.Seen, Wanted: t.Wanted}
	if !t.Until.IsZero() {
		d.Until = &t.Until
	}
	return d
}

// sentencesFor looks for the sentences of a cause and form, then for those of its plain form; among those of targets first if one
// was asked.
func sentencesFor(t trouble.Trouble, target bool) sentences {
	tables := []map[key]sentences{ofDevices, ofTargets}
	if target {
		tables[0], tables[1] = tables[1], tables[0]
	}
	for _, form := range []string{t.Form, ""} {
		for _, table := range tables {
			if said, ok := table[key{t.Cause, form}]; ok {
				return said
			}
		}
	}
	return ofDevices[key{trouble.Unknown, ""}]
}

// OutOfTime says that a device answers, and took longer for a step than any step gets. got is what was found until then.
func OutOfTime(after time.Duration, got string) Diagnosis {
	d := Diagnosis{Cause: trouble.TooSlow, Summary: fmt.Sprintf("The device answers so slowly that this was not done within %s.",
		after.Round(time.Second)),
		Fix:  "Try again: it goes on from where it was. Close other viewers or restart the device if it stays like this.",
		Seen: fmt.Sprintf("stopped after %s", after.Round(time.Second))}
	if got != "" {
		d.Summary += " Found until then: " + got + "."
	}
	return d
}

// ClaimedBy says that something at another address claims to be a device which still answers at its own.
func ClaimedBy(at, still netip.Addr, method string) Diagnosis {
	return Diagnosis{Cause: trouble.Impostor, Summary: fmt.Sprintf("Something at %s says that it is this device, which still answers at %s. "+
		"Nothing was sent there.", at, still),
		Fix:  "Find out what answers there. If the device itself was moved, switch off what is still at its old address and sweep again.",
		Seen: fmt.Sprintf("heard by %s from %s while %s answered", method, at, still)}
}

// NotKnownAgain says that a device has moved, as far as it says, and that nothing which a stranger lacks confirms it. why is what
// went wrong with the sign-in that opened it before.
func NotKnownAgain(before, now netip.Addr, why Diagnosis) Diagnosis {
	return Diagnosis{Cause: trouble.Stranger, Summary: fmt.Sprintf("What answers at %s says that it is the device that was at %s, and does "+
		"not prove it. Only the sign-in that opened it there was tried.", now, before),
		Fix:  "Look at the device. If it is the same one, add its sign-in for this device, or forget it and let it be found anew.",
		Seen: why.Summary, Until: why.Until}
}

// Capital begins a sentence with s.
func Capital(s string) string {
	if s == "" {
		return s
	}
	first, size := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(first)) + s[size:]
}
