package server

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/siteplan"
	"unlatch/core/ground/signin"
	"unlatch/store"
)

// Bounds of packs that are brought.
const (
	mostUpload  = 1 << 30
	mostUploads = 4         // that wait to be opened
	uploadStays = time.Hour // before it is forgotten
)

// An upload is a pack that was brought and waits to be opened.
type upload struct {
	file     *os.File // which has no name any more
	person   uuid.UUID
	at       time.Time
	manifest handover.Manifest
	pack     handover.Pack
	taken    handover.Taken
	files    fs.FS
	raw      []byte // handover.json
}

// uploads are the packs that wait to be opened.
type uploads struct {
	// reading is held by whoever reads a pack: one takes some hundred MB meanwhile.
	reading sync.Mutex
	mu      sync.Mutex
	byID    map[uuid.UUID]*upload
}

// put keeps an upload. The oldest goes where there are too many.
func (u *uploads) put(x *upload) uuid.UUID {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.byID == nil {
		u.byID = map[uuid.UUID]*upload{}
	}
	var oldest uuid.UUID
	for id, other := range u.byID {
		if x.at.Sub(other.at) > uploadStays {
			u.drop(id)
		} else if oldest == uuid.Nil || other.at.Before(u.byID[oldest].at) {
			oldest = id
		}
	}
	if len(u.byID) >= mostUploads {
		u.drop(oldest)
	}
	id := uuid.New()
	u.byID[id] = x
	return id
}

func (u *uploads) drop(id uuid.UUID) {
	if x := u.byID[id]; x != nil {
		x.file.Close()
		delete(u.byID, id)
	}
}

// get returns an upload of a person; nil where there is none.
func (u *uploads) get(id, person uuid.UUID, now time.Time) *upload {
	u.mu.Lock()
	defer u.mu.Unlock()
	if x := u.byID[id]; x != nil && x.person == person && now.Sub(x.at) <= uploadStays {
		return x
	}
	return nil
}

// packView is what a pack holds, before it is opened.
type packView struct {
	ID       uuid.UUID          `json:"id" doc:"to open it by"`
	Name     string             `json:"name" doc:"of the site"`
	Number   int                `json:"number"`
	By       string             `json:"by"`
	At       time.Time          `json:"at"`
	Hash     string             `json:"hash" doc:"of its manifest: that on the sign-off page and in the record of whoever made it"`
	Ranges   []string           `json:"ranges" doc:"that Unlatch will connect to"`
	Targets  []packTargetView   `json:"targets"`
	Cameras  int                `json:"cameras"`
	Devices  int                `json:"devices"`
	Sealed   *handover.SealedTo `json:"sealed,omitempty"`
	Books    []string           `json:"books" doc:"of recipes, presets and intakes that come along"`
	Warnings []string           `json:"warnings" doc:"what of it cannot be used"`
	Here     bool               `json:"here" doc:"its site is here already"`
}

type packTargetView struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Address string `json:"address,omitempty" doc:"that Unlatch will connect to"`
}

// openPacks serve packs from elsewhere.
type openPacks struct {
	resource
	waiting *uploads
	facts   handovers
}

// bring takes a pack as a zip file, checks all of it, and keeps it until it is opened. Nothing is done with it yet.
func (s openPacks) bring(w http.ResponseWriter, r *http.Request) {
	x, err := s.read(w, r)
	if err != nil {
		s.fail(w, err)
		return
	}
	here, err := s.store.Handovers.Here(r.Context(), x.taken)
	if err != nil {
		x.file.Close()
		s.fail(w, err)
		return
	}
	m := x.manifest
	cameras, _ := x.pack.Count()
	v := packView{ID: s.waiting.put(x), Name: x.taken.Name, Number: m.Number, By: m.By, At: m.At, Hash: m.Hash,
		Ranges: x.taken.Ranges.Strings(), Targets: []packTargetView{}, Cameras: cameras, Devices: len(x.taken.Devices), Sealed: m.Sealed,
		Here: here, Books: []string{},
		Warnings: append([]string{}, x.taken.Warnings...)}
	for _, b := range x.pack.Books {
		v.Books = append(v.Books, b.Name)
	}
	for _, t := range x.taken.Targets {
		v.Targets = append(v.Targets, packTargetView{t.Name, t.Kind, t.Address})
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// read reads a pack from the body of a request into a file without a name, and checks it. Its error is a *Problem.
func (s openPacks) read(w http.ResponseWriter, r *http.Request) (x *upload, err error) {
	control := http.NewResponseController(w)
	control.SetReadDeadline(time.Now().Add(10 * time.Minute))
	file, err := os.CreateTemp("", "unlatch-pack-")
	if err != nil {
		return nil, err
	}
	os.Remove(file.Name()) // it is gone with the process
	defer func() {
		if err != nil {
			file.Close()
		}
	}()
	size, err := io.Copy(file, http.MaxBytesReader(w, r.Body, mostUpload))
	if big := new(http.MaxBytesError); errors.As(err, &big) {
		return nil, problem(http.StatusRequestEntityTooLarge, "pack_too_large", "The pack is larger than 1 GB.",
			"Bring the zip file of one version.")
	} else if err != nil {
		return nil, problem(http.StatusRequestTimeout, "not_whole", "The pack did not arrive whole.", "Send it again.")
	}
	s.waiting.reading.Lock()
	defer s.waiting.reading.Unlock()
	x = &upload{file: file, person: person(r.Context()).ID, at: s.now()}
	if x.files, err = handover.Zip(file, size); err != nil {
		return nil, packProblem(err)
	}
	if x.manifest, x.pack, err = handover.Open(r.Context(), x.files); err != nil {
		return nil, packProblem(err)
	}
	if x.raw, err = fs.ReadFile(x.files, handover.DataFile); err != nil {
		return nil, packProblem(err)
	}
	if x.taken, err = handover.Take(&x.pack); err != nil {
		return nil, packProblem(err)
	}
	return x, nil
}

// packProblem says why a pack is not opened.
func packProblem(err error) error {
	var damaged *handover.DamagedError
	var newer *handover.FormError
	switch {
	case errors.As(err, &newer):
		return problem(422, "pack_newer", sentence(err.Error()), "Bring this Unlatch up to date, then open it.")
	case errors.As(err, &damaged):
		return problem(422, "pack_damaged", "The pack is not as it was made: "+damaged.Error()+".",
			"Ask for it again from whoever made it. Nothing of it was taken over.")
	case errors.Is(err, context.Canceled):
		return err
	}
	return problem(422, "pack_unusable", sentence(err.Error()), "Ask whoever made it.")
}

func (s openPacks) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "open-pack", Method: "POST", Path: "/api/packs/{upload}/open", DefaultStatus: 201,
		Summary: "Make a site of a handover pack that was brought"}, s.open)
	register(s, api, huma.Operation{OperationID: "get-opened", Method: "GET", Path: "/api/sites/{site}/handover/opened",
		Summary: "How the site stands to the pack that it was opened from"},
		func(ctx context.Context, in *SitePath) (*struct{ Body openedView }, error) {
			v, err := s.standing(ctx, in.Site)
			return &struct{ Body openedView }{v}, s.explain(err)
		})
}

func (s openPacks) open(ctx context.Context, in *struct {
	Upload uuid.UUID `path:"upload"`
	Body   struct {
		Secret string `json:"secret,omitempty" maxLength:"1000" doc:"a passphrase or secret key of age, which opens the sealed sign-ins"`
	}
}) (*struct{ Body idBody }, error) {
	if err := s.mayRead(ctx, act.Arrange); err != nil {
		return nil, err
	}
	x := s.waiting.get(in.Upload, person(ctx).ID, s.now())
	if x == nil {
		return nil, s.explain(&act.Refusal{Cause: "no_pack", Detail: "That pack is not kept any more.", Fix: "Bring it again."})
	}
	a := act.OpenPack{Manifest: x.manifest, Pack: &x.pack, Taken: x.taken, Raw: x.raw, Pictures: map[uuid.UUID]siteplan.Picture{}}
	var err error
	if a.Here, err = s.store.Handovers.Here(ctx, x.taken); err != nil {
		return nil, s.explain(err)
	}
	if in.Body.Secret != "" {
		sealed, err := fs.ReadFile(x.files, handover.SealedFile)
		if err != nil {
			return nil, s.explain(&act.Refusal{Cause: "not_sealed", Detail: "The pack holds no sealed sign-ins.",
				Fix: "Open it without a passphrase or key."})
		}
		if a.SignIns, err = handover.Unseal(sealed, signin.NewSecret(strings.TrimSpace(in.Body.Secret))); err != nil {
			return nil, s.explain(&act.Refusal{Cause: "not_sealed_to_you", Detail: sentence(err.Error()),
				Fix: "Check it, or open the pack without the sign-ins."})
		}
	}
	for _, p := range x.taken.SitePlans {
		if raw, err := fs.ReadFile(x.files, p.Picture); err == nil {
			if picture, err := siteplan.Read(raw); err == nil {
				a.Pictures[p.ID] = *picture
			}
		}
	}
	for _, b := range x.pack.Books {
		if text, err := fs.ReadFile(x.files, b.File); err == nil {
			a.Books = append(a.Books, b.WithText(text))
		}
	}
	if _, err := s.do(ctx, a); err != nil {
		return nil, err
	}
	s.waiting.mu.Lock()
	s.waiting.drop(in.Upload)
	s.waiting.mu.Unlock()
	return &struct{ Body idBody }{idBody{x.taken.Site}}, nil
}

// openedView is how a site stands to the pack that it was opened from.
type openedView struct {
	Opened bool      `json:"opened" doc:"the site was opened from a pack"`
	By     string    `json:"by,omitempty"`
	At     time.Time `json:"at,omitzero"`
	Number int       `json:"number,omitempty" doc:"of the version"`
	MadeBy string    `json:"made_by,omitempty"`
	MadeAt time.Time `json:"made_at,omitzero"`
	handover.Standing
}

func (s openPacks) standing(ctx context.Context, site uuid.UUID) (v openedView, err error) {
	o, err := s.store.Handovers.Opened(ctx, site)
	if errors.Is(err, store.ErrNotFound) {
		v.Standing = handover.Stand(&handover.Pack{}, &handover.Pack{}, nil)
		return v, nil
	} else if err != nil {
		return v, err
	}
	pack, err := handover.ReadPack(o.Raw)
	if err != nil {
		return v, err
	}
	facts, err := s.facts.factsNow(ctx, site)
	if err != nil {
		return v, err
	}
	now := handover.Of(facts)
	known := map[uuid.UUID]bool{}
	for _, d := range facts.Devices {
		known[d.ID] = d.Status.Latch(latch.Heard).State == latch.Open
	}
	heard := func(id uuid.UUID) bool { return known[id] }
	m := o.Manifest.V
	return openedView{Opened: true, By: o.By, At: o.At, Number: m.Number, MadeBy: m.By, MadeAt: m.At,
		Standing: handover.Stand(&pack, &now, heard)}, nil
}
