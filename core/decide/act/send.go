package act

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/recipe"
)

// SendCommand tells devices something on their maker's own page, by a command recipe, or takes that back.
type SendCommand struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Strict  bool
	Name    string // of the command
	// Command is nil where there is none of the name any more: then it can still be taken back.
	Command  *recipe.Command
	Partners []recipe.Command // that it must not be on with
	Values   map[string]string
	Undo     bool
}

// About implements Act.
func (a SendCommand) About() About {
	return About{Name: "send-command", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true}
}

// Decide implements Act.
func (a SendCommand) Decide(f Facts) (Outcome, error) {
	if !a.Undo {
		if a.Command == nil {
			return Outcome{}, refuse("no_command", fmt.Sprintf("No path book has a command named %q.", a.Name), "Choose one of the list.")
		}
		if err := a.Command.Check(a.Values); err != nil {
			return Outcome{}, refuse("bad_value", sentence(err.Error()), "Choose a value within its bounds.")
		}
	}
	fit, left, err := sift(f, a.Devices, a.Strict, a.sendable)
	if err != nil {
		return Outcome{}, err
	}
	out := Outcome{Left: left, Work: &command.Work{Kind: "send", Title: fmt.Sprintf("%s on %s", a.Name, command.Cameras(len(fit)))}}
	line := Line{Subject: f.names(ids(fit)), Devices: ids(fit)}
	do := command.Send{Undo: a.Undo}
	if a.Undo {
		out.Work.Title = fmt.Sprintf("%s put back on %s", a.Name, command.Cameras(len(fit)))
		line.Before, line.After = a.Name, "put back"
	} else {
		do = command.Send{Command: *a.Command, Partners: a.Partners, Values: a.Values}
		line.After = a.Name + ": " + a.Command.InWords(a.Values)
	}
	for _, d := range fit {
		one := do
		if a.Undo { // as it was when it was sent
			one.Command = d.Status.CommandStanding(a.Name).Command
		}
		out.Work.Devices = append(out.Work.Devices, command.OnDevice{Device: d.ID, Do: command.Device{Send: &one}})
	}
	out.Line = line
	return out, nil
}

// sendable says why a command cannot be sent to a device, or taken back on it.
func (a SendCommand) sendable(d *latch.Device) *Refusal {
	switch {
	case d.Via != nil:
		return refuse("behind_recorder", d.Title+" is reached through its recorder, which does not pass on its page.",
			"Set it on the camera itself, by the recorder's way through.")
	case !d.Status.InScope():
		return refuse("out_of_scope", d.Title+" is outside the site's ranges.", "Add its range to the site if it belongs there.")
	case a.Undo && d.Status.CommandStanding(a.Name) == nil:
		return refuse("nothing_to_undo", fmt.Sprintf("Nothing of %q stands on %s.", a.Name, d.Title), "Set it to what it should be instead.")
	case !a.Undo && !a.Command.Fits(d.Status.CommandKind()):
		return refuse("other_device", fmt.Sprintf("%q is not for %s.", a.Name, d.Title),
			"Send it to devices of the maker, model and firmware that it names.")
	}
	return nil
}
