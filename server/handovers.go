package server

import (
	"context"
	"net/url"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/words"
	"unlatch/core/ground/release"
	"unlatch/core/ground/signin"
	"unlatch/store"
)

// handoverView is whether a site can be handed over, and what was handed over.
type handoverView struct {
	Ready     bool                    `json:"ready" doc:"nothing is open"`
	Findings  []readyFindingView      `json:"findings" doc:"the gravest first"`
	Progress  []ready.Progress        `json:"progress" doc:"how complete each device and target is"`
	Checklist checklistView           `json:"checklist"`
	Versions  []store.HandoverVersion `json:"versions" doc:"the newest first"`
	Firm      store.Firm              `json:"firm"`
	Labels    []paper.LabelSheet      `json:"label_sheets" doc:"the usual sizes"`
	Languages []languageView          `json:"languages"`
}

type languageView struct {
	Tag  string `json:"tag"`
	Name string `json:"name"`
}

// readyFindingView is a finding in words.
type readyFindingView struct {
	ready.Finding
	Title string     `json:"title"`
	Do    string     `json:"do"`
	Mend  ready.Mend `json:"mend,omitempty" doc:"what its button does; missing where only work at the device mends it"`
}

type checklistView struct {
	Name  string          `json:"name"`
	Items []ready.Checked `json:"items"`
	YAML  string          `json:"yaml"`
	Own   bool            `json:"own" doc:"the site has one of its own"`
	Rules []string        `json:"rules" doc:"by which evidence ticks an item"`
}

// handovers serve what is left behind when a site is finished.
type handovers struct {
	resource
	base string // the address under which people reach Unlatch, where the server was told
}

// VersionPath names a version of a site's pack. It is exported because huma reads exported fields only.
type VersionPath struct {
	SitePath
	Version uuid.UUID `path:"version"`
}

func (s handovers) routes(api huma.API) {
	const path = "/api/sites/{site}/handover"
	register(s, api, huma.Operation{OperationID: "get-handover", Method: "GET", Path: path,
		Summary: "Whether the site can be handed over, and what was handed over"},
		func(ctx context.Context, in *SitePath) (*struct{ Body handoverView }, error) {
			v, err := s.view(ctx, in.Site)
			return &struct{ Body handoverView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "list-handovers", Metadata: needs(act.Look), Method: "GET", Path: path + "/versions",
		Summary: "The versions of the site's handover pack"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []store.HandoverVersion }, error) {
			list, err := s.store.Handovers.List(ctx, in.Site)
			list = slices.DeleteFunc(list, func(v store.HandoverVersion) bool { return !v.Made })
			for i := range list { // who may look and no more sees the papers
				list[i].Sealed = nil
				list[i].Files = slices.DeleteFunc(list[i].Files, func(e handover.FileEntry) bool { return e.Path != handover.PaperFile })
			}
			return &struct{ Body []store.HandoverVersion }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "make-handover", Method: "POST", Path: path + "/versions", DefaultStatus: 202,
		Summary: "Make a version of the site's handover pack"}, s.make)
	register(s, api, huma.Operation{OperationID: "sign-handover", Method: "POST", Path: path + "/versions/{version}/sign",
		Summary: "Sign a version of the pack on the screen"},
		func(ctx context.Context, in *struct {
			VersionPath
			Body struct {
				Name    string            `json:"name" maxLength:"120"`
				Strokes []handover.Stroke `json:"strokes" maxItems:"200" doc:"x and y in turn, from 0 to 1 of the field"`
			}
		}) (*struct{}, error) {
			v, err := s.madeVersion(ctx, in.Site, in.Version)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.SignHandover{Site: in.Site, Version: in.Version, Number: v.Number, Hash: v.Hash, Name: in.Body.Name,
				Strokes: in.Body.Strokes})
		})
	s.waiverRoutes(api, path)
	s.checklistRoutes(api, path)
	register(s, api, huma.Operation{OperationID: "compare-handovers", Method: "GET", Path: path + "/versions/{version}/changes",
		Summary: "What has changed since a version"},
		func(ctx context.Context, in *struct {
			VersionPath
			To uuid.UUID `query:"to" doc:"a later version; missing for the site as it is now"`
		}) (*struct{ Body handover.Changes }, error) {
			v, err := s.madeVersion(ctx, in.Site, in.Version)
			if err != nil {
				return nil, s.explain(err)
			}
			c, err := s.compare(ctx, in.Site, v, in.To)
			return &struct{ Body handover.Changes }{c}, s.explain(err)
		})
}

// waiverBody names the things that a finding concerns.
type waiverBody struct {
	Cause  ready.Cause `json:"cause"`
	Things []uuid.UUID `json:"things" minItems:"1" maxItems:"5000" doc:"devices, targets, or the site"`
	Reason string      `json:"reason,omitempty" maxLength:"500"`
}

func (s handovers) waiverRoutes(api huma.API, path string) {
	register(s, api, huma.Operation{OperationID: "waive-finding", Method: "POST", Path: path + "/waivers",
		Summary: "Hand over all the same, and say why"},
		func(ctx context.Context, in *struct {
			SitePath
			Body waiverBody
		}) (*struct{}, error) {
			titles, err := s.titles(ctx, in.Site, in.Body)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.WaiveFinding{Site: in.Site, Cause: in.Body.Cause, Things: in.Body.Things, Titles: titles,
				Reason: in.Body.Reason})
		})
	register(s, api, huma.Operation{OperationID: "withdraw-waiver", Method: "POST", Path: path + "/waivers/withdraw",
		Summary: "Take back what was waived"},
		func(ctx context.Context, in *struct {
			SitePath
			Body waiverBody
		}) (*struct{}, error) {
			titles, err := s.titles(ctx, in.Site, in.Body)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.WithdrawWaiver{Site: in.Site, Cause: in.Body.Cause, Things: in.Body.Things, Titles: titles})
		})
}

// titles returns what the things of a finding are called. What is not among them is an *act.MissingError: it was mended, or is another
// site's.
func (s handovers) titles(ctx context.Context, site uuid.UUID, b waiverBody) (out []string, err error) {
	known, err := s.readyFacts(ctx, site)
	if err != nil {
		return nil, err
	}
	of := map[uuid.UUID]string{}
	for _, f := range known.Findings() {
		if f.Cause == b.Cause {
			for _, t := range slices.Concat(f.Things, f.Waived) {
				of[t.ID] = t.Title
			}
		}
	}
	missing := &act.MissingError{}
	for _, id := range b.Things {
		if title, ok := of[id]; ok {
			out = append(out, title)
		} else {
			missing.IDs = append(missing.IDs, id)
		}
	}
	if len(missing.IDs) > 0 {
		return nil, missing
	}
	return out, nil
}

func (s handovers) checklistRoutes(api huma.API, path string) {
	type checklistYAML struct {
		YAML string `json:"yaml" maxLength:"65536" doc:"empty for none of its own"`
	}
	register(s, api, huma.Operation{OperationID: "attest-item", Method: "PUT", Path: path + "/attested",
		Summary: "Say that an item of the checklist is done, or that it is not"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Item string `json:"item" maxLength:"60"`
				Note string `json:"note,omitempty" maxLength:"500"`
				Undo bool   `json:"undo,omitempty"`
			}
		}) (*struct{}, error) {
			list, _, _, err := s.store.Handovers.Checklist(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			title := ""
			if i := slices.IndexFunc(list.Items, func(x ready.Item) bool { return x.ID == in.Body.Item && x.Ticks == "" }); i >= 0 {
				title = list.Items[i].Title
			}
			return s.keep(ctx, act.AttestItem{Site: in.Site, Item: in.Body.Item, Title: title, Note: in.Body.Note, Undo: in.Body.Undo})
		})
	register(s, api, huma.Operation{OperationID: "put-checklist", Method: "PUT", Path: path + "/checklist",
		Summary: "Keep a checklist for the site"},
		func(ctx context.Context, in *struct {
			SitePath
			Body checklistYAML
		}) (*struct{}, error) {
			return s.keep(ctx, act.PutChecklist{Site: in.Site, YAML: in.Body.YAML})
		})
	register(s, api, huma.Operation{OperationID: "put-firm-checklist", Method: "PUT", Path: "/api/firm/checklist",
		Summary: "Keep the firm's checklist", Extensions: map[string]any{"x-act": "put-checklist"}},
		func(ctx context.Context, in *struct{ Body checklistYAML }) (*struct{}, error) {
			return s.keep(ctx, act.PutChecklist{YAML: in.Body.YAML})
		})
	register(s, api, huma.Operation{OperationID: "get-firm", Method: "GET", Path: "/api/firm", Summary: "Whose papers these are"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body store.Firm }, error) {
			f, err := s.store.Handovers.Firm(ctx)
			return &struct{ Body store.Firm }{f}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "set-firm", Method: "PUT", Path: "/api/firm", MaxBodyBytes: 2 * act.MostMark,
		Summary: "Say whose papers these are"},
		func(ctx context.Context, in *struct {
			Body struct {
				Name   string `json:"name" maxLength:"120"`
				Mark   []byte `json:"mark,omitempty" doc:"a PNG or JPEG picture; missing to keep the one that is there"`
				NoMark bool   `json:"no_mark,omitempty" doc:"take the mark away"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.SetFirm{Name: in.Body.Name, Raw: in.Body.Mark, NoMark: in.Body.NoMark})
		})
}

// readyFacts returns the facts of a site that decide whether it can be handed over.
func (s handovers) readyFacts(ctx context.Context, id uuid.UUID) (r ready.Site, err error) {
	site, err := s.store.Sites.Get(ctx, id)
	if err != nil {
		return r, err
	}
	devices, err := s.lineUp.all(ctx, id)
	if err != nil {
		return r, err
	}
	return s.store.ReadySite(ctx, site, devices, s.now())
}

func (s handovers) view(ctx context.Context, site uuid.UUID) (v handoverView, err error) {
	known, err := s.readyFacts(ctx, site)
	if err != nil {
		return v, err
	}
	found := known.Findings()
	list, yaml, own, err := s.store.Handovers.Checklist(ctx, site)
	if err != nil {
		return v, err
	}
	attested, err := s.store.Handovers.Attested(ctx, site)
	if err != nil {
		return v, err
	}
	v = handoverView{Findings: []readyFindingView{}, Progress: known.Progress(found), Labels: paper.LabelSheets,
		Checklist: checklistView{Name: list.Name, Items: known.Check(list, found, attested), YAML: yaml, Own: own, Rules: ready.Rules()}}
	for _, tag := range words.Languages {
		v.Languages = append(v.Languages, languageView{tag, words.In(tag).Text("locale.name")})
	}
	for _, f := range found {
		v.Findings = append(v.Findings, viewOfReady(f))
	}
	v.Ready = len(v.Progress) > 0 && ready.Open(found) == 0 && ready.Undone(v.Checklist.Items) == 0
	if v.Versions, err = s.store.Handovers.List(ctx, site); err != nil {
		return v, err
	}
	v.Firm, err = s.store.Handovers.Firm(ctx)
	return v, err
}

// viewOfReady returns a finding in the words of the pages.
func viewOfReady(f ready.Finding) readyFindingView {
	l := words.In("en")
	all := slices.Concat(f.Things, f.Waived)
	n := len(f.Things)
	if n == 0 {
		n = len(all)
	}
	return readyFindingView{Finding: f, Title: l.Count("finding."+string(f.Cause)+".title", n, "thing", all[0].Title),
		Do: l.Text("finding." + string(f.Cause) + ".do"), Mend: f.Cause.Mend()}
}

// makeHandoverBody is how a version is to be made.
type makeHandoverBody struct {
	Language   string            `json:"language,omitempty" maxLength:"10"`
	Size       paper.Size        `json:"size,omitempty" enum:"A4,Letter"`
	Labels     *paper.LabelSheet `json:"labels,omitempty" doc:"missing for none"`
	Recipients string            `json:"recipients,omitempty" maxLength:"65536" doc:"public keys of age, one a line, to which the sign-ins are sealed"`
	Passphrase string            `json:"passphrase,omitempty" maxLength:"1000" doc:"to which they are sealed; neither of both leaves them out"`
	Base       string            `json:"base,omitempty" maxLength:"300" doc:"the address of Unlatch as the person knows it, for links to cameras"`
}

// madeHandover is the run that makes a version.
type madeHandover struct {
	runView
	Version uuid.UUID `json:"version"`
}

// baseOf returns the address of Unlatch that stands in papers: that which the server was told, else that which the person knows.
func (s handovers) baseOf(known string) string {
	if s.base != "" {
		return s.base
	}
	if u, err := url.Parse(known); err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil {
		return u.Scheme + "://" + u.Host
	}
	return ""
}

func (s handovers) make(ctx context.Context, in *struct {
	SitePath
	Body makeHandoverBody
}) (*struct{ Body madeHandover }, error) {
	b := in.Body
	a := act.MakeHandover{Site: in.Site, ID: uuid.Must(uuid.NewV7()), Passphrase: signin.NewSecret(b.Passphrase),
		HandoverForm: act.HandoverForm{Language: b.Language, Size: b.Size, Labels: b.Labels, Recipients: b.Recipients, Base: s.baseOf(b.Base),
			Program: release.Running().String()}}
	done, err := s.do(ctx, a)
	if err != nil {
		return nil, err
	}
	return &struct{ Body madeHandover }{madeHandover{viewOfRun(*done.Run, time.Now()), a.ID}}, nil
}
