package server

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/store"
)

// timelines serve what was seen of a site, a camera or a target over time.
type timelines struct{ resource }

// timelineView is what was seen of one thing between two times.
type timelineView struct {
	From     time.Time                        `json:"from"`
	To       time.Time                        `json:"to"`
	Spans    []watchround.SeenSpan            `json:"spans" doc:"without gaps: times that nobody has looked at are told as that"`
	Up       *float64                         `json:"up,omitempty" doc:"percent of the time that was looked at; missing where nobody has looked"`
	Looked   float64                          `json:"looked" doc:"percent of the time that was looked at"`
	Moments  []momentView                     `json:"moments" doc:"what has changed and what was done, the newest first"`
	Measures map[string][]store.MeasuredPoint `json:"measures" doc:"by what was measured: rate main, bitrate sub, loss main, key frames main, skew"`
}

// momentView is a moment that matters.
type momentView struct {
	At    time.Time `json:"at"`
	Until time.Time `json:"until,omitzero" doc:"of a drift that is over"`
	Kind  string    `json:"kind" enum:"drift,act"`
	Text  string    `json:"text"`
	By    string    `json:"by,omitempty"`
}

// availabilityView is how much of a month one thing was up.
type availabilityView struct {
	Thing  uuid.UUID `json:"thing"`
	Name   string    `json:"name"`
	Month  string    `json:"month" doc:"as 2026-11"`
	Up     *float64  `json:"up,omitempty" doc:"percent of the time that was looked at"`
	Looked float64   `json:"looked" doc:"percent of the month, as far as it has gone"`
}

func (s timelines) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-timeline", Method: "GET", Path: "/api/sites/{site}/timeline",
		Summary: "What was seen of a camera or a target over time"}, s.timeline)
	register(s, api, huma.Operation{OperationID: "get-availability", Method: "GET", Path: "/api/sites/{site}/availability",
		Summary: "How much of a month each camera and target was up"}, s.availability)
}

// longestTimeline is how far one time line reaches.
const longestTimeline = 366 * 24 * time.Hour

func (s timelines) timeline(ctx context.Context, in *struct {
	SitePath
	Thing uuid.UUID `query:"thing" doc:"a device or a target of the site; missing for the site itself"`
	Hours int       `query:"hours" minimum:"1" maximum:"8784" default:"24" doc:"how far back"`
}) (*struct{ Body timelineView }, error) {
	to := time.Now().UTC()
	from := to.Add(-min(time.Duration(in.Hours)*time.Hour, longestTimeline))
	v := timelineView{From: from, To: to, Moments: []momentView{}}
	spans, err := s.store.Watched.Spans(ctx, in.Site, in.Thing, from, to)
	if err != nil {
		return nil, s.explain(err)
	}
	turn, err := s.store.Watched.Last(ctx, in.Thing)
	round := watchround.CameraRound
	if err == nil {
		round = turn.Round()
	}
	if in.Thing == uuid.Nil {
		v.Spans = []watchround.SeenSpan{} // a site is not up or down: its cameras are
		v.Up, v.Looked = shares(allOf(spans, from, to, round))
	} else {
		v.Spans = watchround.Whole(spans[in.Thing], from, to, round)
		v.Up, v.Looked = shares(v.Spans)
	}
	if v.Measures, err = s.store.Watched.Measures(ctx, in.Thing, resolutionFor(to.Sub(from)), from, to); err != nil {
		return nil, s.explain(err)
	}
	if v.Moments, err = s.moments(ctx, in.Site, in.Thing, from, to); err != nil {
		return nil, s.explain(err)
	}
	return &struct{ Body timelineView }{v}, nil
}

// allOf returns the spans of all things of a site, one after the other.
func allOf(spans map[uuid.UUID][]watchround.SeenSpan, from, to time.Time, round time.Duration) (out []watchround.SeenSpan) {
	for _, list := range spans {
		out = append(out, watchround.Whole(list, from, to, round)...)
	}
	return out
}

// resolutionFor returns the finest measures that a time line of that length is drawn from.
func resolutionFor(length time.Duration) store.Resolution {
	switch {
	case length <= 48*time.Hour:
		return store.Minutes
	case length <= 31*24*time.Hour:
		return store.Quarters
	}
	return store.Hours
}

// shares returns how much of spans was up, and how much was looked at, in percent.
func shares(spans []watchround.SeenSpan) (up *float64, looked float64) {
	share := watchround.Availability(spans)
	if percent, ok := share.Percent(); ok {
		up = &percent
	}
	if all := share.Up + share.Down + share.NotLooked; all > 0 {
		looked = 100 * float64(share.Up+share.Down) / float64(all)
	}
	return up, looked
}

// mostMoments is how many acts a time line shows.
const mostMoments = 200

// moments are the drifts of a thing, and what people and programs have done with it.
func (s timelines) moments(ctx context.Context, site, thing uuid.UUID, from, to time.Time) ([]momentView, error) {
	out := []momentView{}
	list, err := s.store.Drifts.Between(ctx, site, thing, from, to)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		out = append(out, momentView{At: e.Before, Until: e.Ended, Kind: "drift", Text: drift.Finding{Episode: e}.Headline()})
	}
	lines, err := s.store.Record.List(ctx, store.LineFilter{Site: site, Device: thing, From: from, To: to, Given: sitesOf(ctx),
		Limit: mostMoments})
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		out = append(out, momentView{At: l.At, Kind: "act", Text: strings.TrimSpace(l.Act.Words() + " " + l.Subject), By: l.Person})
	}
	slices.SortStableFunc(out, func(a, b momentView) int { return b.At.Compare(a.At) })
	return out, nil
}

func (s timelines) availability(ctx context.Context, in *struct {
	SitePath
	Month string `query:"month" pattern:"^\\d{4}-\\d{2}$" doc:"as 2026-11; missing for this one"`
}) (*struct{ Body []availabilityView }, error) {
	now := time.Now().UTC()
	from := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)
	if in.Month != "" {
		var err error
		if from, err = time.Parse("2006-01", in.Month); err != nil {
			return nil, problem(422, "bad_month", "That is no month.", "Write it like 2026-11.")
		}
	}
	to := from.AddDate(0, 1, 0)
	if to.After(now) {
		to = now
	}
	spans, err := s.store.Watched.Spans(ctx, in.Site, uuid.Nil, from, to)
	if err != nil {
		return nil, s.explain(err)
	}
	rule, _, err := s.store.Sites.Rounds(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	all, err := s.lineUp.all(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	out := []availabilityView{}
	add := func(id uuid.UUID, name string, round time.Duration) {
		v := availabilityView{Thing: id, Name: name, Month: from.Format("2006-01")}
		v.Up, v.Looked = shares(watchround.Whole(spans[id], from, to, round))
		out = append(out, v)
	}
	for _, d := range all {
		if spans[d.ID] != nil {
			add(d.ID, d.Title, rule.Round(false))
			delete(spans, d.ID)
		}
	}
	targets, err := s.store.Targets.List(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	for _, t := range targets {
		if spans[t.ID] != nil {
			add(t.ID, t.Name, rule.Round(true))
		}
	}
	return &struct{ Body []availabilityView }{out}, nil
}
