package outside

import (
	"fmt"
	"strings"
	"time"
)

// A Paper is what the sheet for whoever runs the router says beside the ports.
type Paper struct {
	Site  string
	By    string // who made it
	At    time.Time
	Names map[string]string // by the ID of the device: what it is called
	Never []string          // what must not be led outside, each with what it is
}

// Sheet writes the sheet: what to set on the router, and what never to. It is text that goes into a mail as it is.
func (f Form) Sheet(p Paper) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Ports to lead inside, %s\nMade by %s on %s. Please set these on the router, and no others.\n\n", oneLine(p.Site),
		oneLine(p.By), p.At.UTC().Format("2006-01-02 15:04 UTC"))
	if len(f.Addresses) > 0 {
		fmt.Fprintf(&b, "Outside address: %s\n\n", strings.Join(f.Addresses, ", "))
	}
	if len(f.Maps) == 0 {
		b.WriteString("There is nothing to set.\n")
	} else {
		fmt.Fprintf(&b, "%-13s  %-8s  %-22s  %s\n", "Outside port", "Protocol", "To inside", "What it is")
	}
	for _, m := range f.Maps {
		fmt.Fprintf(&b, "%-13d  %-8s  %-22s  %s\n", m.Port, "TCP", m.Inside, oneLine(p.Names[m.Device.String()]))
	}
	if len(f.Maps) > 0 {
		b.WriteString("\nTCP alone; the sender's address stays open, unless you know from where it is looked at: then allow only that.\n")
	}
	if len(p.Never) > 0 {
		b.WriteString("\nNever lead these outside:\n")
		for _, n := range p.Never {
			fmt.Fprintf(&b, "- %s\n", oneLine(n))
		}
	}
	b.WriteString("\nUniversal Plug and Play (UPnP) for cameras should be off on the router: devices open ports by themselves otherwise.\n")
	return b.String()
}

// oneLine makes one line of a text.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }
