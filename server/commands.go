package server

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/weigh"
	"unlatch/core/stream/recipe"
)

// deviceCommandView is a command that a device can be told, with what stands of it.
type deviceCommandView struct {
	recipe.Command
	Book   string      `json:"book" doc:"the path book that it is of; empty for one that no book has any more"`
	Stands *standsView `json:"stands,omitempty" doc:"what was set with it and can be taken back"`
	Wrong  *wrongView  `json:"wrong,omitempty" doc:"why it was not done when it was last sent"`
	For    []mendsView `json:"for,omitempty" doc:"what is the matter with the device that it mends"`
}

type standsView struct {
	Pending bool   `json:"pending,omitempty" doc:"it was begun, and what came of it is not known yet"`
	Before  string `json:"before"`
	After   string `json:"after"`
}

type wrongView struct {
	Problem string `json:"problem"`
	Fix     string `json:"fix"`
}

type mendsView struct {
	Values map[string]string `json:"values"`
	Words  string            `json:"words"`
}

// sendCommandBody is exported in its fields for huma.
type sendCommandBody struct {
	Devices []uuid.UUID       `json:"devices" minItems:"1" maxItems:"5000"`
	Command string            `json:"command" maxLength:"200" doc:"its name"`
	Values  map[string]string `json:"values,omitempty"`
	Undo    bool              `json:"undo,omitempty" doc:"put back what was before"`
	Strict  bool              `json:"strict,omitempty" doc:"refuse everything where one device cannot be taken, rather than leave it out"`
}

// commands serve what devices can be told on their makers' own pages.
type commands struct{ resource }

func (s commands) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "device-commands", Method: "GET", Path: "/api/devices/{device}/commands",
		Summary: "What the device can be told on its maker's own page, and what stands of it"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body []deviceCommandView }, error) {
			list, err := s.ofDevice(ctx, in.Device)
			return &struct{ Body []deviceCommandView }{list}, err
		})
	register(s, api, huma.Operation{OperationID: "send-command", Method: "POST", Path: "/api/sites/{site}/commands",
		Summary: "Tell devices something on their maker's own page, read back, or take it back", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body sendCommandBody
		}) (*runOut, error) {
			a := act.SendCommand{Site: in.Site, Devices: in.Body.Devices, Strict: in.Body.Strict, Name: in.Body.Command,
				Values: in.Body.Values, Undo: in.Body.Undo}
			c, partners, err := s.find(ctx, in.Body.Command)
			if err != nil {
				return nil, err
			}
			a.Command, a.Partners = c, partners
			return s.tryOrBegin(ctx, in.TryQuery, a)
		})
	s.dryRoutes(api)
	s.learnRoutes(api)
}

// dryRunView is what a command would send, line by line; sign-ins are in none of it.
type dryRunView struct {
	Read     string   `json:"read" doc:"the page that is read before and after"`
	First    []string `json:"first" doc:"what may have to be switched first: it is sent where it is on"`
	Token    string   `json:"token,omitempty" doc:"the page that gives the token"`
	Requests []string `json:"requests"`
}

func (s commands) dryRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "try-command", Metadata: readsWith(act.Work), Method: "POST",
		Path: "/api/devices/{device}/commands/try", Summary: "Show every line that a command would send; nothing is sent"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Command string            `json:"command" maxLength:"200"`
				Values  map[string]string `json:"values"`
			}
		}) (*struct{ Body dryRunView }, error) {
			d, err := s.store.Devices.Get(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			c, partners, err := s.find(ctx, in.Body.Command)
			if err != nil {
				return nil, err
			}
			if c == nil {
				return nil, problem(404, "no_command", "No path book has such a command.", "Choose one of the list.")
			}
			out, err := dryRun(c, partners, in.Body.Values, hostOf(d.Latch()))
			if bad := new(recipe.SettingError); errors.As(err, &bad) {
				return nil, problem(422, "bad_value", sentence(bad.Error()), "Choose a value within its bounds.")
			}
			return &struct{ Body dryRunView }{out}, s.explain(err)
		})
}

// hostOf returns the host of the device's own page; its address where the page is not known.
func hostOf(d *latch.Device) string {
	if at, ok := d.Status.OwnPage(); ok {
		_, host, _ := strings.Cut(at, "://")
		return host
	}
	return d.Addr
}

func dryRun(c *recipe.Command, partners []recipe.Command, values map[string]string, host string) (out dryRunView, err error) {
	token := ""
	if c.Token != nil {
		token = "TOKEN"
		out.Token = recipe.Exact{Method: http.MethodGet, Target: c.Token.Path}.String(host)
	}
	out.Read = recipe.Exact{Method: http.MethodGet, Target: c.Read.Path}.String(host)
	out.Requests, out.First = []string{}, []string{}
	list, err := c.Fill(c.Set, values, token)
	if err != nil {
		return out, err
	}
	for _, x := range list {
		out.Requests = append(out.Requests, x.String(host))
	}
	for _, x := range c.NotWith {
		other := recipe.CommandNamed(partners, x.Command)
		if other == nil || !recipe.Meets(values, x.When) {
			continue
		}
		first, err := other.Fill(other.Set, x.Set, "TOKEN")
		if err != nil {
			continue // it has values beside, which are read from the device
		}
		for _, y := range first {
			out.First = append(out.First, y.String(host))
		}
	}
	return out, nil
}

// find finds a command by its name, people's own books first; c is nil where there is none.
func (s commands) find(ctx context.Context, name string) (c *recipe.Command, partners []recipe.Command, err error) {
	books, err := s.store.Books.All(ctx)
	if err != nil {
		return nil, nil, s.explain(err)
	}
	for _, b := range books {
		if c := recipe.CommandNamed(b.Commands, name); c != nil {
			return c, c.Partners(b.Commands), nil
		}
	}
	return nil, nil, nil
}

// ofDevice returns the commands for a device, and those that stand on it though no book has them any more.
func (s commands) ofDevice(ctx context.Context, device uuid.UUID) ([]deviceCommandView, error) {
	d, err := s.store.Devices.Get(ctx, device)
	if err != nil {
		return nil, s.explain(err)
	}
	books, err := s.store.Books.All(ctx)
	if err != nil {
		return nil, s.explain(err)
	}
	out := []deviceCommandView{}
	have := map[string]bool{}
	kind := d.Status.CommandKind()
	for _, b := range books {
		for _, c := range b.Commands {
			if !have[c.Name] && c.Fits(kind) {
				have[c.Name] = true
				out = append(out, viewOfCommand(&d.Status, c, b.Name))
			}
		}
	}
	for _, b := range d.Status.Commanded {
		if !have[b.Command.Name] {
			out = append(out, viewOfCommand(&d.Status, b.Command, ""))
		}
	}
	return out, nil
}

func viewOfCommand(st *latch.Status, c recipe.Command, book string) deviceCommandView {
	v := deviceCommandView{Command: c, Book: book}
	for _, b := range weigh.Buttons(st, []recipe.Command{c}) {
		if m := (mendsView{b.Values, b.Words}); !slices.ContainsFunc(v.For, func(o mendsView) bool { return o.Words == m.Words }) {
			v.For = append(v.For, m)
		}
	}
	if b := st.CommandStanding(c.Name); b != nil {
		v.Stands = &standsView{Pending: b.Pending, Before: b.Command.InWords(b.Before), After: b.Command.InWords(b.After)}
		if b.Diagnosis != nil {
			v.Wrong = &wrongView{b.Diagnosis.Summary, b.Diagnosis.Fix}
		}
	}
	return v
}

// learnBody is what a command is learned from.
type learnBody struct {
	Name      string       `json:"name" maxLength:"200"`
	Does      string       `json:"does" maxLength:"500" doc:"what it does, in words"`
	Maker     string       `json:"maker" maxLength:"100" doc:"a pattern with * and ?"`
	First     learnExample `json:"first"`
	Second    learnExample `json:"second"`
	PagePath  string       `json:"page_path" maxLength:"1000" doc:"of the page that shows the setting"`
	Fixed     []string     `json:"fixed,omitempty" maxItems:"64" doc:"parts that are left as they are"`
	Tokens    []string     `json:"tokens,omitempty" maxItems:"8" doc:"parts that are a token of the device"`
	TokenPath string       `json:"token_path,omitempty" maxLength:"1000"`
	TokenPage string       `json:"token_page,omitempty" maxLength:"65536"`
}

type learnExample struct {
	Request string `json:"request" maxLength:"65536" doc:"as it was copied: the request itself, or a curl command"`
	Page    string `json:"page" maxLength:"65536" doc:"the body of the page that has shown the setting afterwards"`
}

type learnedView struct {
	YAML   string           `json:"yaml" doc:"a path book with the command, to be looked through and kept"`
	Varies []recipe.Varying `json:"varies"`
}

func (s commands) learnRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "learn-command", Metadata: readsWith(act.Work), Method: "POST",
		Path: "/api/path-books/learn-command", Summary: "Make a command of two requests that worked; nothing is kept", MaxBodyBytes: 1 << 20},
		func(_ context.Context, in *struct{ Body learnBody }) (*struct{ Body learnedView }, error) {
			b := in.Body
			c, varies, err := recipe.Lesson{First: recipe.Example(b.First), Second: recipe.Example(b.Second), PagePath: b.PagePath,
				Fixed: b.Fixed, Tokens: b.Tokens, TokenPath: b.TokenPath, TokenPage: b.TokenPage}.Learn()
			if bad := new(recipe.LearnError); errors.As(err, &bad) {
				return nil, problem(422, "cannot_learn", sentence(bad.Problem),
					"Copy both requests as the browser sends them, each after a change of one setting.")
			}
			if err != nil {
				return nil, s.explain(err)
			}
			c.Name, c.Does, c.Maker = b.Name, b.Does, b.Maker
			raw, err := (&recipe.Book{Name: "Learned here", Commands: []recipe.Command{*c}}).Write()
			out := learnedView{YAML: string(raw), Varies: varies}
			if out.Varies == nil {
				out.Varies = []recipe.Varying{}
			}
			return &struct{ Body learnedView }{out}, s.explain(err)
		})
}
