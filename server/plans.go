package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/wiretext"
	"unlatch/core/ground/yamlfile"
	"unlatch/core/stream/tuning"
)

// A planText is a plan by part, as people write it: main, sub, third, overlay.
type planText map[string]string

// read parses a plan that a person typed.
func (p planText) read() (tuning.Plan, error) {
	plan, err := tuning.ParsePlan(p)
	if err != nil {
		return plan, problem(422, "bad_plan", sentence(err.Error()), "What is left out stays as it is.")
	}
	return plan, nil
}

// plannedStreams are the streams of a plan by role, as they are read: pages show them without a parser of their own.
type plannedStreams map[string]tuning.Stream

// streamsOfPlan returns the streams of a plan; a plan of the overlay alone has none.
func streamsOfPlan(p tuning.Plan) plannedStreams {
	if p.Streams == nil {
		return plannedStreams{}
	}
	return p.Streams
}

type planView struct {
	ID      uuid.UUID    `json:"id"`
	Owner   tuning.Owner `json:"owner" enum:"site,model,selection"`
	Name    string       `json:"name,omitempty" doc:"of the model or the selection"`
	Plan    planText     `json:"plan"`
	Devices []uuid.UUID  `json:"devices,omitempty" doc:"of a selection"`
}

type planBody struct {
	Owner   tuning.Owner `json:"owner" enum:"site,model,selection"`
	Name    string       `json:"name,omitempty" maxLength:"200" doc:"of the model or the selection"`
	Plan    planText     `json:"plan" doc:"by part (main, sub, third, overlay): h264,1280x720,15fps,2000kbps,cbr,gop30"`
	Devices []uuid.UUID  `json:"devices,omitempty" maxItems:"5000" doc:"of a selection"`
	Was     *planText    `json:"was,omitempty" doc:"the plan that was seen, empty for none: refused with changed_meanwhile where it is another by now"`
}

type presetView struct {
	Name    string         `json:"name"`
	Note    string         `json:"note,omitempty"`
	Plan    planText       `json:"plan"`
	Streams plannedStreams `json:"streams" doc:"the plan's streams by role, as they are read"`
	Book    string         `json:"book"`
	Owner   *uuid.UUID     `json:"book_id,omitempty" doc:"missing for the presets of the product"`
}

// PlanPath names a plan of a site. It is exported because huma reads exported fields only.
type PlanPath struct {
	SitePath
	Plan uuid.UUID `path:"plan"`
}

// ShelfPath names a book of presets or of intakes.
type ShelfPath struct {
	Book uuid.UUID `path:"book"`
}

// yamlBody is a book that somebody brings.
type yamlBody struct {
	YAML string `json:"yaml" maxLength:"1048576"`
}

// plans serve plans of streams and presets.
type plans struct{ resource }

func (s plans) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-plans", Method: "GET", Path: "/api/sites/{site}/plans",
		Summary: "The plans of a site, of its models and of selections"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []planView }, error) {
			list, err := s.store.Plans.List(ctx, in.Site)
			out := &struct{ Body []planView }{Body: []planView{}}
			for _, p := range list {
				out.Body = append(out.Body, planView{p.ID, p.Owner, p.Name, p.Plan.Texts(), p.Devices})
			}
			return out, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "put-plan", Method: "PUT", Path: "/api/sites/{site}/plans",
		Summary: "Plan the streams of a site, a model or a selection, in place of the plan that it had. Nothing is sent to any device"},
		func(ctx context.Context, in *struct {
			SitePath
			Body planBody
		}) (*struct{ Body planView }, error) {
			return s.putPlan(ctx, in.Site, in.Body)
		})
	register(s, api, huma.Operation{OperationID: "delete-plan", Method: "DELETE", Path: "/api/sites/{site}/plans/{plan}",
		Summary: "Take a plan away; what is set on devices stays"},
		func(ctx context.Context, in *PlanPath) (*struct{}, error) {
			return s.keep(ctx, act.DeletePlan{Site: in.Site, Plan: in.Plan})
		})
	register(s, api, huma.Operation{OperationID: "list-presets", Method: "GET", Path: "/api/presets", Summary: "Plans to reuse"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []presetView }, error) {
			return s.presets(ctx)
		})
	register(s, api, huma.Operation{OperationID: "add-presets", Method: "POST", Path: "/api/presets",
		Summary: "Bring a book of presets, in place of the one of its name", DefaultStatus: 201, MaxBodyBytes: 2 << 20},
		func(ctx context.Context, in *struct{ Body yamlBody }) (*struct{}, error) {
			b, err := tuning.ReadPresets([]byte(in.Body.YAML))
			if err != nil {
				return nil, s.badBook("presets", err)
			}
			return s.keep(ctx, act.BringBook{Kind: act.PresetBooks, Name: b.Name, YAML: in.Body.YAML, Operation: "add-presets"})
		})
	register(s, api, huma.Operation{OperationID: "save-preset", Method: "POST", Path: "/api/presets/own",
		Summary: "Keep a plan as a preset of one's own, in place of the one of its name", DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Name string   `json:"name" minLength:"1" maxLength:"200"`
				Note string   `json:"note,omitempty" maxLength:"2000"`
				Plan planText `json:"plan"`
			}
		}) (*struct{}, error) {
			return nil, s.savePreset(ctx, in.Body.Name, in.Body.Note, in.Body.Plan)
		})
	register(s, api, huma.Operation{OperationID: "delete-presets", Method: "DELETE", Path: "/api/presets/{book}",
		Summary: "Remove a book of presets of one's own"},
		func(ctx context.Context, in *ShelfPath) (*struct{}, error) {
			return s.keep(ctx, act.DeleteBook{Kind: act.PresetBooks, ID: in.Book, Operation: "delete-presets"})
		})
}

// badBook explains a book that cannot be read, with line and column.
func (s problems) badBook(of string, err error) error {
	var bad *yamlfile.Error
	if errors.As(err, &bad) {
		return problem(422, "bad_book", fmt.Sprintf("The book of %s cannot be read: %s.", of, bad.Error()),
			"Mend it there and bring it again. What was typed is kept.")
	}
	return s.explain(err)
}

func (s plans) putPlan(ctx context.Context, site uuid.UUID, in planBody) (*struct{ Body planView }, error) {
	plan, err := in.Plan.read()
	if err != nil {
		return nil, err
	}
	a := act.PutPlan{Site: site, Owner: in.Owner, Name: in.Name, Plan: plan, Devices: in.Devices}
	if in.Was != nil {
		was, err := in.Was.read()
		if err != nil {
			return nil, err
		}
		a.Was = &was
	}
	done, err := s.do(ctx, a)
	if err != nil {
		return nil, err
	}
	id, _ := done.Results[0].(uuid.UUID)
	return &struct{ Body planView }{planView{id, in.Owner, strings.TrimSpace(in.Name), plan.Texts(), in.Devices}}, nil
}

func (s plans) presets(ctx context.Context) (*struct{ Body []presetView }, error) {
	out := &struct{ Body []presetView }{Body: []presetView{}}
	add := func(b *tuning.PresetBook, id *uuid.UUID) {
		for _, p := range b.Presets {
			out.Body = append(out.Body, presetView{p.Name, p.Note, p.Plan.Texts(), streamsOfPlan(p.Plan), b.Name, id})
		}
	}
	files, err := s.store.Shelf.List(ctx, act.PresetBooks)
	for _, f := range files {
		b, err := tuning.ReadPresets([]byte(f.YAML))
		if err != nil {
			return nil, s.explain(err)
		}
		add(b, &f.ID)
	}
	add(tuning.ShippedPresets(), nil)
	return out, s.explain(err)
}

// ownPresets is the book that plans go to which were kept as presets here.
const ownPresets = "Kept here"

func (s plans) savePreset(ctx context.Context, name, note string, text planText) error {
	plan, err := text.read()
	if err != nil {
		return err
	}
	if plan.IsZero() {
		return problem(422, "no_plan", "The plan wants nothing.", "Say what the main or the sub stream shall be.")
	}
	book := &tuning.PresetBook{Name: ownPresets}
	files, err := s.store.Shelf.List(ctx, act.PresetBooks)
	if err != nil {
		return s.explain(err)
	}
	for _, f := range files {
		if f.Name == ownPresets {
			if book, err = tuning.ReadPresets([]byte(f.YAML)); err != nil {
				return s.explain(err)
			}
		}
	}
	preset := tuning.Preset{Name: wiretext.Line(name, 200), Note: wiretext.Line(note, 2000), Plan: plan}
	replaced := false
	for i := range book.Presets {
		if strings.EqualFold(book.Presets[i].Name, preset.Name) {
			book.Presets[i], replaced = preset, true
		}
	}
	if !replaced {
		book.Presets = append(book.Presets, preset)
	}
	raw, err := book.Write()
	if err != nil {
		return s.explain(err)
	}
	_, err = s.do(ctx, act.BringBook{Kind: act.PresetBooks, Name: book.Name, YAML: string(raw), Operation: "save-preset"})
	return err
}

// shelfFile sends a book as the file that others can bring; "shipped" is the product's.
func (s plans) shelfFile(kind act.BookKind, shipped func() ([]byte, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		send := func(raw []byte) {
			w.Header().Set("Content-Type", "application/yaml; charset=utf-8")
			w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", string(kind)+".yaml"))
			w.Write(raw)
		}
		name := chi.URLParam(r, "book")
		if name == "shipped" {
			raw, err := shipped()
			if err != nil {
				s.fail(w, err)
				return
			}
			send(raw)
			return
		}
		files, err := s.store.Shelf.List(r.Context(), kind)
		if err != nil {
			s.fail(w, err)
			return
		}
		for _, f := range files {
			if f.ID.String() == name {
				send([]byte(f.YAML))
				return
			}
		}
		writeProblem(w, problem(404, "not_found", "There is no such book.", ""))
	}
}
