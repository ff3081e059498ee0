package server

import (
	"context"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/supportnote"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/release"
	"unlatch/store"
)

// conversationView is a conversation as a person reads it, and one page of it for a maker's support.
type conversationView struct {
	Site     uuid.UUID           `json:"site"`
	Of       uuid.UUID           `json:"of" doc:"the device or the target"`
	Name     string              `json:"name"`
	At       time.Time           `json:"at"`
	Summary  string              `json:"summary"`
	Finding  *diagnose.Diagnosis `json:"finding,omitempty" doc:"missing where nothing failed"`
	Turns    []exchange.Turn     `json:"turns"`
	Mattered int                 `json:"mattered" doc:"the place of the turn that a failure hangs on; below 0 for none"`
	Note     string              `json:"note" doc:"one page of facts, finding and exchange"`
}

type recordPath struct {
	Record uuid.UUID `path:"record"`
}

// readings serve conversations in a form that people read.
type readings struct{ resource }

func (s readings) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "read-exchange", Metadata: needs(act.Inspect), Method: "GET",
		Path:    "/api/evidence/{record}/reading",
		Summary: "The conversation that a piece of evidence came from, turn by turn"},
		func(ctx context.Context, in *recordPath) (*struct{ Body conversationView }, error) {
			v, err := s.device(ctx, in.Record)
			return &struct{ Body conversationView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "read-target-exchange", Metadata: needs(act.Inspect), Method: "GET",
		Path:    "/api/target-records/{record}/reading",
		Summary: "The conversation behind one entry of a target's record, turn by turn"},
		func(ctx context.Context, in *recordPath) (*struct{ Body conversationView }, error) {
			v, err := s.targetReading(ctx, in.Record)
			return &struct{ Body conversationView }{v}, s.explain(err)
		})
}

func (s readings) device(ctx context.Context, record uuid.UUID) (v conversationView, err error) {
	r, err := s.store.Devices.OneRecord(ctx, record)
	if err != nil {
		return v, err
	}
	d, err := s.store.Devices.Get(ctx, r.Device)
	if err != nil {
		return v, err
	}
	text, err := s.store.Devices.Exchange(ctx, record)
	if err != nil {
		return v, err
	}
	v = conversationView{Site: d.Site, Of: d.ID, Name: d.Title(), At: r.At, Summary: r.Sum(), Finding: r.Diagnosis()}
	v.read(text, deviceFacts(d))
	return v, nil
}

func (s readings) targetReading(ctx context.Context, record uuid.UUID) (v conversationView, err error) {
	x, id, err := s.store.Targets.OneSeen(ctx, record)
	if err != nil {
		return v, err
	}
	t, err := s.store.Targets.Get(ctx, id)
	if err != nil {
		return v, err
	}
	text, err := s.store.Targets.Exchange(ctx, record)
	if err != nil {
		return v, err
	}
	v = conversationView{Site: t.Site, Of: t.ID, Name: t.Name, At: x.At, Summary: x.What}
	if x.Diagnosis != nil {
		v.Finding = &x.Diagnosis.V
	}
	v.read(text, []supportnote.Fact{{Name: "Kind", Value: wordsOfKinds[string(t.Kind)]}})
	return v, nil
}

// read splits the conversation and writes the note.
func (v *conversationView) read(text string, facts []supportnote.Fact) {
	v.Turns = exchange.Read(text)
	v.Mattered = -1
	if v.Finding != nil {
		v.Mattered = exchange.Mattered(v.Turns)
	}
	v.Note = supportnote.Note{Device: v.Name, At: v.At, Facts: facts, Summary: v.Summary, Finding: v.Finding, Turns: v.Turns,
		Program: "Unlatch " + release.Running().String()}.Text()
}

// deviceFacts returns what a maker's support asks for first.
func deviceFacts(d *store.Device) []supportnote.Fact {
	st := &d.Status
	facts := []supportnote.Fact{}
	add := func(name, value string) { facts = append(facts, supportnote.Fact{Name: name, Value: value}) }
	if in := st.SignedIn; in != nil {
		add("Maker and model", st.Model())
		add("Firmware", in.Info.Firmware)
		add("Serial number", in.Info.Serial)
	} else {
		add("Announced as", st.Device.Model())
	}
	add("Address", d.Addr)
	add("Hardware address", st.Device.MAC)
	add("Device service", st.Device.XAddr)
	if r := st.Reached; r != nil {
		add("Clock", fmt.Sprintf("%s against this machine's", (time.Duration(r.SkewMS)*time.Millisecond).Round(time.Second)))
	}
	for _, x := range st.Streams {
		c := x.Claimed
		text := x.URL
		if c.Codec != "" {
			text += fmt.Sprintf(" (%s, %d x %d, %.4g fps, %d kbit/s by its own word)", c.Codec, c.Width, c.Height, c.FPS, int(c.BitrateKbps))
		}
		add("Stream "+x.Role, text)
		if p, ok := st.Proofs[x.Role]; ok && p.Video != nil {
			add("  measured", fmt.Sprintf("%s, %d x %d, %.4g fps, %.0f kbit/s over %s", p.Video.Codec, p.Video.Width, p.Video.Height, p.Video.FPS,
				p.Video.BitrateKbps, p.Transport))
		}
	}
	return facts
}
