package server

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
)

// namesBody says how several devices are to be called, in one of three ways.
type namesBody struct {
	Devices []uuid.UUID          `json:"devices" minItems:"1" maxItems:"5000" doc:"in the order in which they are numbered and listed"`
	Names   map[uuid.UUID]string `json:"names,omitempty" doc:"by device; an empty one gives back the device's own name"`
	Pattern string               `json:"pattern,omitempty" maxLength:"120" doc:"such as Platform {n}; {nn}, {last}, {maker} and {model} too"`
	First   int                  `json:"first,omitempty" minimum:"0" maximum:"99999" doc:"the number of the first; 1 where it is left out"`
	List    string               `json:"list,omitempty" maxLength:"500000" doc:"a name a line in the order of the devices, or address and name"`
}

// nameAll names devices, or says with ?try how they would be called.
func (s devices) nameAll(ctx context.Context, in *struct {
	SitePath
	TryQuery
	Body namesBody
}) (*struct{ Body namedView }, error) {
	b := in.Body
	what := act.NameAll{Site: in.Site, Devices: b.Devices, Names: b.Names, Pattern: b.Pattern, First: b.First, List: b.List}
	if b.First == 0 {
		what.First = 1
	}
	if in.Try {
		out, err := s.desk().Weigh(ctx, person(ctx), what)
		return &struct{ Body namedView }{namedView{out.Names}}, s.explain(err)
	}
	done, err := s.do(ctx, what)
	return &struct{ Body namedView }{namedView{done.Names}}, err
}

type namedView struct {
	Names []act.Named `json:"names"`
}
