package act

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/wire/discovery"
)

// Sweep begins a discovery run over the ranges of a site.
type Sweep struct {
	Site      uuid.UUID
	Confirmed bool // the number of addresses was shown to the person
	Open      bool // latches are opened afterwards of all that was heard
}

// About implements Act.
func (a Sweep) About() About {
	return About{Name: "start-sweep", Right: Work, Site: a.Site, WithSweep: true}
}

// Decide implements Act. Whoever begins a sweep while one is under way joins that one. Ranges over address.LargestUnasked need a
// confirmation, whose Refusal carries their count.
func (a Sweep) Decide(f Facts) (Outcome, error) {
	ranges := f.Site.Ranges
	if ranges.Empty() {
		return Outcome{}, refuse("bad_range", "The site has no range.", "Give it a range such as 192.0.2.0/24 first.")
	}
	if err := confirmSize(ranges, a.Confirmed); err != nil {
		return Outcome{}, err
	}
	if f.Sweep != uuid.Nil {
		return Outcome{Join: f.Sweep, Line: Line{Subject: ranges.String(), After: "joined the sweep that was under way"}}, nil
	}
	return Outcome{
		Work: &command.Work{Kind: "sweep", Title: "Sweep of " + ranges.String(),
			Steps: int64(discovery.Total(ranges, len(discovery.DefaultPorts))), Site: &command.OnSite{Sweep: &command.Sweep{Open: a.Open}}},
		Line: Line{Subject: ranges.String()},
	}, nil
}

// confirmSize refuses ranges that are larger than a person means by a slip of the pen, unless their number was confirmed.
func confirmSize(ranges address.Ranges, confirmed bool) error {
	if err := ranges.Check(); err != nil && !confirmed {
		return &Refusal{Cause: "too_many_addresses", Detail: sentence(err.Error()),
			Fix: "Confirm the number, or type a smaller range.", Count: ranges.Count()}
	}
	return nil
}

// Open opens latches of devices as far as they go.
type Open struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Again   bool // play streams again that are proven already
	// Retry sends what the devices have refused once more, within the guard's bound: something was mended on them.
	Retry bool
}

// About implements Act.
func (a Open) About() About {
	return About{Name: "open-latches", Right: Work, Site: a.Site, Devices: a.Devices, Doing: openCommand}
}

// Names of commands that acts ask about.
const (
	openCommand = "open"
	tuneCommand = "tune"
)

// Decide implements Act. A device that somebody else is opening is left out: it is not opened twice, and all see how far it is.
func (a Open) Decide(f Facts) (Outcome, error) {
	going, left, err := sift(f, a.Devices, false, func(d *latch.Device) *Refusal {
		if b, busy := f.Busy[d.ID]; busy && b.By != f.By.Name && b.By != "" {
			return refuse("being_opened", fmt.Sprintf("%s has begun to open its latches (%s).", b.By, b.Run),
				"Wait for that: it is shown to everybody on the site.")
		}
		return nil
	})
	if err != nil {
		return Outcome{}, err
	}
	devices := ids(going)
	return Outcome{
		Work: opening("Open latches of "+command.Cameras(len(devices)), devices, command.Open{Again: a.Again && !a.Retry, Retry: a.Retry}),
		Left: left, Line: Line{Subject: f.names(devices), Devices: devices},
	}, nil
}

// opening returns the run that opens latches.
func opening(title string, devices []uuid.UUID, how command.Open) *command.Work {
	return &command.Work{Kind: "open", Title: title, Devices: command.Each(devices, command.Device{Open: &how})}
}

// Stop stops a run: what waits is taken out, and what is under way is cut short.
type Stop struct{ Site, Run uuid.UUID }

// About implements Act.
func (a Stop) About() About {
	return About{Name: "stop-run", Right: Work, Site: a.Site, Runs: []uuid.UUID{a.Run}}
}

// Decide implements Act.
func (a Stop) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Runs[a.Run]}}, nil
}

// Paste takes a pasted URL, looks which of its siblings are there, and proves them.
type Paste struct {
	Site  uuid.UUID
	Host  string
	Paste command.Paste
	// New is the sign-in of the URL, which goes onto the keyring; nil where it has none or is known.
	New *NewSignIns
}

// About implements Act.
func (a Paste) About() About { return About{Name: "take-paste", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a Paste) Decide(Facts) (Outcome, error) {
	out := Outcome{Line: Line{Subject: a.Host}}
	if a.New != nil {
		out.Keep = append(out.Keep, *a.New)
	}
	title := "Prove the pasted URL"
	if a.Paste.Channels > 1 {
		title = fmt.Sprintf("Prove %d channels of %s", a.Paste.Channels, a.Host)
	}
	out.Work = &command.Work{Kind: "paste", Title: title, Steps: int64(a.Paste.Channels) + 1, Site: &command.OnSite{Paste: &a.Paste}}
	return out, nil
}
