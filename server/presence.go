package server

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// here is the event by which pages of a site are told who else looks at it. It comes from this server and is never kept.
const here = "here"

// presentView is somebody else who looks at a site.
type presentView struct {
	Name    string      `json:"name"`
	Devices []uuid.UUID `json:"devices" doc:"the cameras that they have open"`
}

// enter says who looks by a watcher, and returns the page's own name for it.
func (h *hub) enter(w *watcher, who act.Person) uuid.UUID {
	h.mu.Lock()
	defer h.mu.Unlock()
	w.who, w.page = who, uuid.New()
	h.tellHere(w.site)
	return w.page
}

// look notes which camera somebody's page has open; the nil UUID is none. A page of somebody else is left alone.
func (h *hub) look(site, page, device uuid.UUID, who uuid.UUID) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		if w.site == site && w.page == page && w.who.ID == who && w.device != device {
			w.device = device
			h.tellHere(site)
		}
	}
}

// tellHere has every page of a site told anew who is there; the caller holds h.mu.
func (h *hub) tellHere(site uuid.UUID) {
	for w := range h.watchers {
		if w.site == site && w.who.ID != uuid.Nil {
			w.add(store.Event{Site: site, What: here})
		}
	}
}

// others returns who else looks at a watcher's site, by name. Programs are no company.
func (h *hub) others(of *watcher) []presentView {
	h.mu.Lock()
	defer h.mu.Unlock()
	byID := map[uuid.UUID]*presentView{}
	for w := range h.watchers {
		if w.site != of.site || w.who.ID == uuid.Nil || w.who.ID == of.who.ID || w.who.TokenID != uuid.Nil {
			continue
		}
		v := byID[w.who.ID]
		if v == nil {
			v = &presentView{Name: w.who.Name, Devices: []uuid.UUID{}}
			byID[w.who.ID] = v
		}
		if w.device != uuid.Nil && !slices.Contains(v.Devices, w.device) {
			v.Devices = append(v.Devices, w.device)
		}
	}
	out := []presentView{}
	for _, v := range byID {
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b presentView) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// tellOthers writes who else looks at a site.
func (h *hub) tellOthers(w io.Writer, of *watcher) {
	raw, _ := json.Marshal(h.others(of)) // names and IDs
	fmt.Fprintf(w, "event: %s\ndata: %s\n\n", here, raw)
}

// presence serves which camera a page has open.
type presence struct {
	resource
	hub *hub
}

func (s presence) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "say-where", Metadata: readsWith(act.See), Method: http.MethodPut,
		Path: "/api/sites/{site}/here", Summary: "Say which camera a page has open, for others on the site to see; nothing is kept"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Page   uuid.UUID  `json:"page,omitempty" doc:"as the site's events have named it"`
				Device *uuid.UUID `json:"device,omitempty" doc:"missing for none"`
			}
		}) (*struct{}, error) {
			device := uuid.Nil
			if in.Body.Device != nil {
				device = *in.Body.Device
			}
			s.hub.look(in.Site, in.Body.Page, device, person(ctx).ID)
			return nil, nil
		})
}
