// Package telling says who is told what: which drifts are news to whom, when, and in which words. It is pure; package work/notify sends,
// and jobs remember what was told.
package telling

import (
	"fmt"
	"net/mail"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/drift"
	"unlatch/core/ground/wiretext"
)

// A Way is how somebody is told.
type Way string

// The ways.
const (
	Mail    Way = "mail"    // by SMTP
	Webhook Way = "webhook" // an HTTP POST, signed
	MQTT    Way = "mqtt"    // a message to a topic
)

// A Listener says who hears what of a site.
type Listener struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	Way  Way    `json:"way" enum:"mail,webhook,mqtt"`
	// To is where it goes: mail addresses with commas between, a URL, or a topic.
	To string `json:"to" minLength:"1" maxLength:"1000" doc:"mail addresses with commas between, a URL, or a topic"`
	// Server is what carries it: of mail smtp:// (STARTTLS where the server offers it) or smtps://, of MQTT mqtt:// or mqtts://.
	Server string `json:"server,omitempty" maxLength:"300" doc:"smtp://, smtps://, mqtt:// or mqtts:// with host and port; not of a webhook"`
	Sender string `json:"sender,omitempty" maxLength:"300" doc:"of mail: the address that it comes from"`
	User   string `json:"user,omitempty" maxLength:"300" doc:"at the server; missing where it wants no sign-in"`
	From   string `json:"from" enum:"notice,warning,urgent" doc:"the least severity that is told"`
	// Acts says that what people and programs do at the site is told too.
	Acts bool `json:"acts,omitempty" doc:"tell also what people and programs do at the site"`
	// Installation says that what is wrong with the server itself is told too, whatever the severity.
	Installation bool `json:"installation,omitempty" doc:"tell also what is wrong with the server itself, such as a backup that failed"`
	// Digest gathers what there is and tells it once a day, at DigestHour in UTC.
	Digest     bool `json:"digest,omitempty" doc:"once a day, and not at once"`
	DigestHour int  `json:"digest_hour,omitempty" minimum:"0" maximum:"23" doc:"in UTC"`
	// Link is where people look at it: the page of the site that the rule was made on.
	Link string `json:"link,omitempty" readOnly:"true" maxLength:"500" doc:"where people look at it; set by the server"`
}

// A ListenerError says what of a rule cannot be, and what to type instead.
type ListenerError struct{ Problem, Fix string }

func (e *ListenerError) Error() string { return e.Problem }

// Check returns a *ListenerError where the rule cannot be.
func (r Listener) Check() error {
	if strings.TrimSpace(r.Name) == "" {
		return &ListenerError{"It has no name.", "Type one, such as Duty phone."}
	}
	if _, ok := drift.ParseSeverity(r.From); !ok {
		return &ListenerError{fmt.Sprintf("%q is no severity.", r.From), "Choose notice, warning or urgent."}
	}
	switch r.Way {
	case Mail:
		if _, err := mail.ParseAddressList(r.To); err != nil {
			return &ListenerError{"The addresses to write to cannot be read.", "Type mail addresses with commas between."}
		}
		if _, err := mail.ParseAddress(r.Sender); err != nil {
			return &ListenerError{"The sender's address cannot be read.", "Type one mail address."}
		}
		return server(r.Server, "smtp", "smtps")
	case Webhook:
		return server(r.To, "http", "https")
	case MQTT:
		if strings.ContainsAny(r.To, "#+\x00") {
			return &ListenerError{"A topic to publish to has no wildcards.", "Type a topic, such as unlatch/tarn-ferry."}
		}
		return server(r.Server, "mqtt", "mqtts")
	}
	return &ListenerError{fmt.Sprintf("There is no way %q.", r.Way), "Choose mail, webhook or mqtt."}
}

// server checks the address of what carries messages.
func server(at string, schemes ...string) error {
	u, err := url.Parse(at)
	switch {
	case err != nil || u.Hostname() == "":
		return &ListenerError{fmt.Sprintf("%q is no address of a server.", wiretext.Line(at, 80)), "Type it like " + schemes[0] + "://host:port."}
	case u.User != nil:
		return &ListenerError{"A password does not belong into the address.", "Type user and password into their own fields."}
	}
	for _, s := range schemes {
		if u.Scheme == s {
			return nil
		}
	}
	return &ListenerError{fmt.Sprintf("%s:// is not spoken here.", u.Scheme), "Type it with " + strings.Join(schemes, ":// or ") + "://."}
}

// A Kind is what a message is about.
type Kind string

// The kinds.
const (
	Drifted Kind = "drift"  // something is not as agreed
	Over    Kind = "over"   // it is again
	Acted   Kind = "act"    // somebody has done something
	Unwell  Kind = "unwell" // the server itself is not well
	Digest  Kind = "digest"
	Test    Kind = "test"
)

// A Message is one thing that is told. Its texts are single lines without control characters.
type Message struct {
	Kind     Kind        `json:"kind"`
	Site     uuid.UUID   `json:"site"`
	SiteName string      `json:"site_name"`
	At       time.Time   `json:"at"`
	Severity string      `json:"severity,omitempty"`
	Cause    string      `json:"cause,omitempty"`
	Headline string      `json:"headline"`
	Why      string      `json:"why,omitempty"`
	Do       string      `json:"do,omitempty"`
	Since    time.Time   `json:"since,omitzero"`
	Changed  []string    `json:"changed,omitempty"`
	Names    []string    `json:"names,omitempty" doc:"of the cameras or targets"`
	Drifts   []uuid.UUID `json:"drifts,omitempty"`
	Link     string      `json:"link,omitempty"`
	Items    []Message   `json:"items,omitempty" doc:"of a digest"`
}

// mostNames is how many devices a message names.
const mostNames = 30

// About is what the messages of a site have in common.
type About struct {
	Site uuid.UUID
	Name string
	Link string
	At   time.Time
}

// OfFinding returns the message of a finding.
func OfFinding(f drift.Finding, kind Kind, a About) Message {
	m := Message{Kind: kind, Site: a.Site, SiteName: line(a.Name), At: a.At, Severity: f.Cause.Severity().String(), Cause: string(f.Cause),
		Headline: line(f.Headline()), Since: f.Before, Link: a.Link}
	if kind == Over {
		m.Headline = "Over: " + m.Headline
	} else {
		m.Why, m.Do = line(f.Why()), line(f.Do())
		for _, c := range f.Changed() {
			m.Changed = append(m.Changed, line(c))
		}
	}
	for i, e := range f.All() {
		m.Drifts = append(m.Drifts, e.ID)
		if i < mostNames {
			m.Names = append(m.Names, line(e.Title))
		}
	}
	return m
}

// line makes one line of a text from outside: a name with a line break in it begins no header of a mail.
func line(text string) string { return wiretext.Line(text, 300) }

// Subject returns the message in one line.
func (m Message) Subject() string {
	if m.Severity == drift.Urgent.String() && m.Kind == Drifted {
		return fmt.Sprintf("%s: %s (urgent)", m.SiteName, m.Headline)
	}
	return fmt.Sprintf("%s: %s", m.SiteName, m.Headline)
}

// Text returns the message as people read it in a mail.
func (m Message) Text() string {
	var b strings.Builder
	m.write(&b)
	for _, x := range m.Items {
		b.WriteString("\n")
		x.write(&b)
	}
	if m.Link != "" {
		fmt.Fprintf(&b, "\n%s\n", m.Link)
	}
	return b.String()
}

func (m Message) write(b *strings.Builder) {
	fmt.Fprintf(b, "%s\n", m.Headline)
	if !m.Since.IsZero() {
		fmt.Fprintf(b, "Since %s.\n", m.Since.UTC().Format("2 January 2006, 15:04 UTC"))
	}
	for _, text := range append([]string{m.Why}, append(m.Changed, m.Do)...) {
		if text != "" {
			fmt.Fprintf(b, "%s\n", text)
		}
	}
	if len(m.Names) > 1 {
		fmt.Fprintf(b, "%s\n", strings.Join(m.Names, ", "))
	}
}

// Gather is how long after its first drift a finding is held back, so that what has one cause is told as one.
const Gather = time.Minute

// A Told is what somebody was told of a drift.
type Told struct {
	Flaps int
	Ended bool
}

// Known is what news are made of.
type Known struct {
	Open  []drift.Episode // the drifts that last
	Ended []drift.Episode // those that are over and were told
	// Told is what the rule was told of each.
	Told map[uuid.UUID]Told
	// Window is how far apart drifts of one cause may begin, and Wait how long a finding is held back so that they are told as one.
	Window, Wait time.Duration
}

// News returns what of the drifts of a site is news for a rule: findings that began, and those that are over. What is put off, or too
// slight, is no news. A drift that comes and goes is told again when it has come twice as often.
func News(r Listener, k Known, now time.Time) (began, over []drift.Finding) {
	least, _ := drift.ParseSeverity(r.From)
	var fresh, gone []drift.Episode
	for _, e := range k.Open {
		was, known := k.Told[e.ID]
		again := known && e.Flaps > 0 && e.Flaps >= 2*max(was.Flaps, 1) || known && was.Ended && was.Flaps == 0 && e.Flaps == 1
		if e.Cause.Severity() < least || e.PutOff.After(now) || known && !again {
			continue
		}
		fresh = append(fresh, e)
	}
	for _, e := range k.Ended {
		if was, known := k.Told[e.ID]; known && !was.Ended {
			gone = append(gone, e)
		}
	}
	for _, f := range drift.Group(fresh, k.Window) {
		if now.Sub(f.Before) >= k.Wait { // those that came later go with it
			began = append(began, f)
		}
	}
	return began, drift.Group(gone, k.Window)
}

// Backoff returns how long after its nth failed try a message is sent again.
func Backoff(tries int) time.Duration {
	return min(time.Hour, time.Duration(1<<min(tries, 12))*5*time.Second)
}

// GiveUpAfter is how long a message is tried for.
const GiveUpAfter = 3 * 24 * time.Hour
