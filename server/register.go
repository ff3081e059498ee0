package server

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/store"
)

// reads marks operations that change nothing although their method is not GET: what they are asked does not fit into an address.
var reads = map[string]any{"reads": true}

// belongingChecker looks whether what a request names is of the site that it names, and whether that site exists for whoever asks.
type belongingChecker interface {
	exists(ctx context.Context, n namedThings) error
	belongs(ctx context.Context, n namedThings) error
}

// register adds an operation to the API. Before the handler of an operation that only reads sees a request that names a site, everything
// of that site which the request names is looked for there: what is another site's is not there, whichever operation asks. An act looks for
// it itself, within its transaction.
func register[I, O any](s belongingChecker, api huma.API, op huma.Operation, handle func(context.Context, *I) (*O, error)) {
	if isAct(op) {
		// Which act it is stands in the document, so that what holds of every act can be tested of every operation.
		op.Extensions = map[string]any{"x-act": cmp.Or(op.Extensions["x-act"], any(op.OperationID))}
	} else if right := rightToRead(op); right != "" {
		op.Extensions = map[string]any{"x-right": right}
	}
	huma.Register(api, op, func(ctx context.Context, in *I) (*O, error) {
		var n namedThings
		n.read(reflect.ValueOf(in), "")
		if err := s.exists(ctx, n); err != nil {
			return nil, err
		}
		if !isAct(op) {
			if err := s.belongs(ctx, n); err != nil {
				return nil, err
			}
			return handle(ctx, in)
		}
		out, err := handle(ctx, in)
		if err == nil {
			return out, nil
		}
		if gone := s.belongs(ctx, n); gone != nil { // before all else that may be wrong with the request
			return nil, gone
		}
		return nil, err
	})
}

// namedThings is what a request names, by the fields that it stands in.
type namedThings struct {
	site             uuid.UUID
	devices, targets []uuid.UUID
	other            map[store.Thing]uuid.UUID // runs and records, which paths name without their site
}

// thingFields are the fields that name devices and targets, in paths and in bodies.
var thingFields = map[string]string{"device": "device", "devices": "device", "replaces": "device", "target": "target", "targets": "target"}

// exists makes sure that the site of a request exists for who is signed in. Its error is a *Problem.
func (s resource) exists(ctx context.Context, n namedThings) error {
	for kind, id := range n.siteTellers() {
		if err := s.requireGiven(ctx, kind, id); err != nil {
			return err
		}
	}
	return nil
}

// belongs makes sure that the devices and targets that a request names are of the site that it names. Its error is a *Problem.
func (s resource) belongs(ctx context.Context, n namedThings) error {
	if n.site == uuid.Nil || len(n.devices)+len(n.targets) == 0 {
		return nil
	}
	missing, err := s.store.Sites.Missing(ctx, n.site, n.devices, n.targets)
	if err != nil {
		return s.explain(err)
	}
	if len(missing) == 0 {
		return nil
	}
	p := problem(http.StatusNotFound, "not_found", "That is not there any more.", "Go back and look again.")
	if len(n.devices)+len(n.targets) > 1 {
		p.Detail = fmt.Sprintf("%s is not on this site, or not any more; nothing was done.", missing[0])
		if len(missing) > 1 {
			p.Detail = fmt.Sprintf("%d of what was named are not on this site, or not any more; nothing was done. The first is %s.", len(missing),
				missing[0])
		}
	}
	return p
}

// read collects what stands in a value of a request; field is the name under which it was sent.
func (n *namedThings) read(v reflect.Value, field string) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			n.read(v.Elem(), field)
		}
	case reflect.Slice:
		for i := range v.Len() {
			n.read(v.Index(i), field)
		}
	case reflect.Map: // keyed by device, where it is by an ID at all
		for _, k := range v.MapKeys() {
			n.read(k, field)
			n.read(v.MapIndex(k), field)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() {
				n.read(v.Field(i), nameOf(f))
			}
		}
	case reflect.Array:
		if id, ok := v.Interface().(uuid.UUID); ok {
			n.add(id, field)
		}
	}
}

func (n *namedThings) add(id uuid.UUID, field string) {
	switch {
	case id == uuid.Nil:
	case field == "site" && n.site == uuid.Nil:
		n.site = id
	case thingFields[field] == "device":
		n.devices = append(n.devices, id)
	case thingFields[field] == "target":
		n.targets = append(n.targets, id)
	case field == "run" || field == "record":
		if n.other == nil {
			n.other = map[store.Thing]uuid.UUID{}
		}
		n.other[store.Thing(field)] = id
	}
}

// siteTellers returns what tells the site of a request: the site itself where it is named, else its device, run or record.
func (n *namedThings) siteTellers() map[store.Thing]uuid.UUID {
	switch {
	case n.site != uuid.Nil:
		return map[store.Thing]uuid.UUID{store.ThingSite: n.site}
	case len(n.devices) > 0:
		return map[store.Thing]uuid.UUID{store.ThingDevice: n.devices[0]}
	}
	return n.other
}

// nameOf returns the name under which a field is sent.
func nameOf(f reflect.StructField) string {
	for _, tag := range []string{"path", "json", "query"} {
		if name, _, _ := strings.Cut(f.Tag.Get(tag), ","); name != "" {
			return name
		}
	}
	return f.Name
}
