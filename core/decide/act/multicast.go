package act

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/camera"
)

// Cast measures the groups of streams, starts or stops sending to them, or puts back what was set.
type Cast struct {
	Site   uuid.UUID
	Strict bool
	Action evidence.CastAction
	Roles  map[uuid.UUID][]string // of the streams, by device
}

// castTitles are the titles of runs.
var castTitles = map[evidence.CastAction]string{evidence.CastMeasure: "Measure multicast of %s",
	evidence.CastStart: "Start multicast of %s",
	evidence.CastStop:  "Stop multicast of %s", evidence.CastUndo: "Put the groups back of %s"}

// About implements Act.
func (a Cast) About() About {
	return About{Name: "cast-devices", Right: Work, Site: a.Site, Devices: slices.Collect(maps.Keys(a.Roles)), WithStates: true}
}

// Decide implements Act.
func (a Cast) Decide(f Facts) (Outcome, error) {
	fit, left, err := sift(f, f.Order, a.Strict, func(d *latch.Device) *Refusal { return changeable(d, "it cannot be asked for its groups") })
	if err != nil {
		return Outcome{}, err
	}
	work := &command.Work{Kind: "multicast", Title: fmt.Sprintf(castTitles[a.Action], command.Cameras(len(fit)))}
	for _, d := range fit {
		do := command.Device{Cast: &command.Cast{Action: a.Action, Roles: a.Roles[d.ID]}}
		work.Devices = append(work.Devices, command.OnDevice{Device: d.ID, Do: do})
	}
	return Outcome{Work: work, Left: left, Line: Line{Subject: f.names(ids(fit)), Devices: ids(fit), After: string(a.Action)}}, nil
}

// SetGroups gives streams groups of their own, as multicast.Plan has planned them.
type SetGroups struct {
	Site   uuid.UUID
	Strict bool
	Groups map[uuid.UUID]map[string]camera.GroupSetting // by device and role
}

// About implements Act.
func (a SetGroups) About() About {
	return About{Name: "set-groups", Right: Work, Site: a.Site, Devices: slices.Collect(maps.Keys(a.Groups)), WithStates: true}
}

// Decide implements Act.
func (a SetGroups) Decide(f Facts) (Outcome, error) {
	fit, left, err := sift(f, f.Order, a.Strict, func(d *latch.Device) *Refusal { return changeable(d, "its groups cannot be set") })
	if err != nil {
		return Outcome{}, err
	}
	work := &command.Work{Kind: "multicast", Title: "Give groups of their own to " + command.Cameras(len(fit))}
	var after []string
	for _, d := range fit {
		do := command.Cast{Action: evidence.CastSet, Groups: a.Groups[d.ID], Roles: slices.Sorted(maps.Keys(a.Groups[d.ID]))}
		work.Devices = append(work.Devices, command.OnDevice{Device: d.ID, Do: command.Device{Cast: &do}})
		for _, role := range do.Roles {
			after = append(after, d.Title+" "+role+" "+do.Groups[role].String())
		}
	}
	return Outcome{Work: work, Left: left,
		Line: Line{Subject: f.names(ids(fit)), Devices: ids(fit), After: strings.Join(after[:min(len(after), mostNamed)], ", ")}}, nil
}
