package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/baseline"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/store"
)

// drifts serve how a site differs from what was agreed on, and how it is watched.
type drifts struct{ resource }

// driftsView is how a site differs from what was agreed on.
type driftsView struct {
	Agreed   bool                 `json:"agreed" doc:"a state of the site was agreed on"`
	Rule     watchround.WatchRule `json:"rule" doc:"how it is watched"`
	By       string               `json:"by,omitempty" doc:"who has said so; what the watch mends it mends in that name"`
	Watch    store.Watch          `json:"watch" doc:"how the watch goes"`
	Findings []causeView          `json:"findings" doc:"the gravest first"`
}

// causeView is a finding: drifts with one cause.
type causeView struct {
	IDs        []uuid.UUID  `json:"ids" doc:"of its drifts"`
	Cause      drift.Cause  `json:"cause"`
	Severity   string       `json:"severity" enum:"notice,warning,urgent"`
	Headline   string       `json:"headline"`
	Why        string       `json:"why,omitempty"`
	Do         string       `json:"do,omitempty"`
	Since      time.Time    `json:"since" doc:"the look that showed it first"`
	After      *time.Time   `json:"after,omitempty" doc:"the look before that"`
	Flaps      int          `json:"flaps,omitempty" doc:"how often it came again within a day"`
	PutOff     *time.Time   `json:"put_off,omitempty" doc:"nobody wants to hear of it until then"`
	PutOffBy   string       `json:"put_off_by,omitempty"`
	Repair     drift.Repair `json:"repair,omitempty" doc:"how it can be put right from here; missing where only a person can"`
	Acceptable bool         `json:"acceptable" doc:"what is there now can be agreed on"`
	Replaced   bool         `json:"replaced,omitempty" doc:"a new device may take over from it"`
	Drifts     []driftView  `json:"drifts" doc:"one for each device"`
}

// driftView is one drift of a finding.
type driftView struct {
	ID      uuid.UUID              `json:"id"`
	Device  uuid.UUID              `json:"device,omitzero"`
	Title   string                 `json:"title"`
	Of      string                 `json:"of,omitempty" doc:"the stream or the target that it is about"`
	Changes []baseline.FieldChange `json:"changes"`
	Since   time.Time              `json:"since"`
	Flaps   int                    `json:"flaps,omitempty"`
}

func (s drifts) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-drifts", Method: "GET", Path: "/api/sites/{site}/drifts",
		Summary: "How the site differs from what was agreed on, grouped by cause"}, s.list)
	register(s, api, huma.Operation{OperationID: "set-rounds", Method: "PUT", Path: "/api/sites/{site}/rounds",
		Summary: "Say how the site is watched"},
		func(ctx context.Context, in *struct {
			SitePath
			Body watchround.WatchRule
		}) (*struct{}, error) {
			newest, err := s.store.Baselines.Newest(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.SetRounds{Site: in.Site, Rule: in.Body, Agreed: newest != uuid.Nil})
		})
	register(s, api, huma.Operation{OperationID: "look-now", Method: "POST", Path: "/api/sites/{site}/rounds/now",
		Summary: "Look at all that is watched now"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			rule, _, err := s.store.Sites.Rounds(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.LookNow{Site: in.Site, On: rule.On})
		})
	register(s, api, huma.Operation{OperationID: "repair-drifts", Method: "POST", Path: "/api/sites/{site}/drifts/repair",
		Summary: "Put back what was agreed on", DefaultStatus: 202}, s.repair)
	register(s, api, huma.Operation{OperationID: "accept-drifts", Method: "POST", Path: "/api/sites/{site}/drifts/accept",
		Summary: "Agree on what is there now"}, s.accept)
	register(s, api, huma.Operation{OperationID: "put-off-drifts", Method: "POST", Path: "/api/sites/{site}/drifts/put-off",
		Summary: "Hear no more of drifts until a time"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Drifts []uuid.UUID `json:"drifts" minItems:"1" maxItems:"5000"`
				Until  time.Time   `json:"until,omitzero" doc:"missing to hear of them again"`
			}
		}) (*struct{}, error) {
			list, err := s.store.Drifts.Some(ctx, in.Site, in.Body.Drifts)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.PutOffDrifts{Site: in.Site, Drifts: list, Until: in.Body.Until})
		})
	register(s, api, huma.Operation{OperationID: "replace-device", Method: "POST", Path: "/api/sites/{site}/replace",
		Summary: "Have a new camera take over what an old one was", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Device   uuid.UUID `json:"device" doc:"the new one"`
				Replaces uuid.UUID `json:"replaces" doc:"the old one, a device of the site too"`
			}
		}) (*runOut, error) {
			return s.begin(ctx, act.ReplaceDevice{Site: in.Site, Old: in.Body.Replaces, New: in.Body.Device})
		})
}

func (s drifts) list(ctx context.Context, in *SitePath) (*struct{ Body driftsView }, error) {
	rule, by, err := s.store.Sites.Rounds(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	v := driftsView{Rule: rule, Findings: []causeView{}}
	newest, err := s.store.Baselines.Newest(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	v.Agreed = newest != uuid.Nil
	if by != uuid.Nil {
		if p, err := s.store.People.Get(ctx, by); err == nil {
			v.By = p.Name
		}
	}
	if v.Watch, err = s.store.Watched.How(ctx, in.Site, time.Now()); err != nil {
		return nil, s.explain(err)
	}
	open, err := s.store.Drifts.Open(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	for _, f := range drift.Group(open, 2*rule.Round(false)) {
		v.Findings = append(v.Findings, viewOfCause(f))
	}
	return &struct{ Body driftsView }{v}, nil
}

func viewOfCause(f drift.Finding) causeView {
	v := causeView{Cause: f.Cause, Severity: f.Cause.Severity().String(), Headline: f.Headline(), Why: f.Why(), Do: f.Do(), Since: f.Before,
		Flaps: f.Flaps, PutOffBy: f.PutOffBy, Repair: f.Repair(), Acceptable: f.Cause.Acceptable(),
		Replaced: f.Cause.MayBeReplaced() && len(f.Under) == 0,
		IDs:      []uuid.UUID{}, Drifts: []driftView{}}
	if !f.After.IsZero() {
		v.After = &f.After
	}
	if f.PutOff.After(time.Now()) {
		v.PutOff = &f.PutOff
	}
	for _, e := range f.All() {
		v.IDs = append(v.IDs, e.ID)
		v.Drifts = append(v.Drifts, driftView{ID: e.ID, Device: e.Device, Title: e.Title, Of: e.Of, Changes: append([]baseline.FieldChange{},
			e.Fields...), Since: e.Before, Flaps: e.Flaps})
	}
	return v
}

// driftIDs names drifts.
type driftIDs struct {
	Drifts []uuid.UUID `json:"drifts" minItems:"1" maxItems:"5000"`
	Strict bool        `json:"strict,omitempty" doc:"do nothing where one cannot be put right"`
}

func (s drifts) repair(ctx context.Context, in *struct {
	SitePath
	TryQuery
	Body driftIDs
}) (*runOut, error) {
	list, err := s.store.Drifts.Some(ctx, in.Site, in.Body.Drifts)
	if err != nil {
		return nil, s.explain(err)
	}
	state, _, err := s.store.Baselines.Agreed(ctx, in.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	return s.tryOrBegin(ctx, in.TryQuery, act.RepairDrifts{Site: in.Site, Drifts: list, Agreed: drift.Index(state), Strict: in.Body.Strict})
}

func (s drifts) accept(ctx context.Context, in *struct {
	SitePath
	Body struct {
		Drifts []uuid.UUID `json:"drifts" minItems:"1" maxItems:"5000"`
		Reason string      `json:"reason" doc:"why this is agreed on"`
	}
}) (*leftOut, error) {
	list, err := s.store.Drifts.Some(ctx, in.Site, in.Body.Drifts)
	if err != nil {
		return nil, s.explain(err)
	}
	a := act.AcceptDrifts{ID: uuid.New(), Site: in.Site, Drifts: list, Reason: in.Body.Reason}
	if a.Was, a.Over, err = s.store.Baselines.Agreed(ctx, in.Site); err != nil {
		return nil, s.explain(err)
	}
	if a.Targets, err = s.targetsNow(ctx, in.Site, list); err != nil {
		return nil, s.explain(err)
	}
	done, err := s.do(ctx, a)
	if err != nil {
		return nil, err
	}
	out := &leftOut{}
	out.Body.Left = append([]act.Left{}, done.Left...)
	return out, nil
}

// targetsNow returns the states of the targets that drifts are about.
func (s drifts) targetsNow(ctx context.Context, site uuid.UUID, list []drift.Episode) (out []baseline.Target, err error) {
	for _, e := range list {
		id, err := uuid.Parse(e.Subject)
		if err != nil || e.Device != uuid.Nil {
			continue
		}
		now, err := s.store.Acts().TargetState(ctx, site, id)
		if err != nil {
			return nil, err
		}
		out = append(out, now)
	}
	return out, nil
}
