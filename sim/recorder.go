package sim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/onvif"
	"unlatch/sim/puller"
)

// A recorder is the receiver and recording side of a stand-in. Each recording is a numbered slot; each receiver in use
// really pulls its stream.
type recorder struct {
	d    *device
	ctx  context.Context
	halt context.CancelFunc
	file string // where the configuration is kept; "" for nowhere

	mu    sync.Mutex
	state recorderState
	live  map[string]*puller.Pull
	pulls []*puller.Pull
}

// recorderState is the configuration that survives a restart.
type recorderState struct {
	Next       int
	Receivers  map[string]string // token to URI
	Recordings map[string]recordingState
	Jobs       map[string]jobState
}

type recordingState struct{ SourceID, Name, Address string }

type jobState struct{ Recording, Receiver string }

func newRecorder(ctx context.Context, d *device, o Options) (*recorder, error) {
	ctx, cancel := context.WithCancel(ctx)
	r := &recorder{d: d, ctx: ctx, halt: cancel, live: map[string]*puller.Pull{},
		state: recorderState{Receivers: map[string]string{}, Recordings: map[string]recordingState{}, Jobs: map[string]jobState{}}}
	d.services["/onvif/receiver"] = service{onvif.NSReceiver, r.receiverService}
	d.services["/onvif/recording"] = service{onvif.NSRecording, r.recordingService}
	if len(d.Channels) > 0 { // one that sends its own channels on plays the others too
		d.services["/onvif/replay"] = service{onvif.NSReplay, r.replayService}
	}
	if o.State != "" {
		r.file = filepath.Join(o.State, "recorder-"+d.Address.String()+".json")
		raw, err := os.ReadFile(r.file)
		if err == nil {
			err = json.Unmarshal(raw, &r.state)
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("the recorder's memory %s cannot be read (%w); delete the file to start it empty", r.file, err)
		}
	}
	for token := range r.state.Receivers {
		r.startPull(token)
	}
	return r, nil
}

// stop ends every pull and waits for it.
func (r *recorder) stop() {
	r.halt()
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range r.pulls {
		p.Stop()
	}
}

// save keeps the configuration; the caller holds mu.
func (r *recorder) save() {
	if r.file == "" {
		return
	}
	raw, err := json.Marshal(r.state)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(r.file), 0o700)
	}
	if err == nil {
		os.WriteFile(r.file, raw, 0o600)
	}
}

func (r *recorder) token(kind string) string {
	r.state.Next++
	return fmt.Sprintf("%s%d", kind, r.state.Next)
}

func (r *recorder) receiverService(o operation) (string, *fault) {
	r.mu.Lock()
	defer r.mu.Unlock()
	defer r.save()
	token := o.arg("ReceiverToken")
	if _, known := r.state.Receivers[token]; token != "" && !known {
		return "", invalid("ter:UnknownToken", "There is no such receiver")
	}
	switch o.name {
	case "GetReceivers":
		var b strings.Builder
		for _, t := range sorted(r.state.Receivers) {
			fmt.Fprintf(&b,
				"<X:Receivers><T:Token>%s</T:Token><T:Configuration><T:Mode>AutoConnect</T:Mode><T:MediaUri>%s</T:MediaUri></T:Configuration>"+
					"</X:Receivers>", t, onvif.Escape(hideSignIn(r.state.Receivers[t])))
		}
		return b.String(), nil
	case "CreateReceiver":
		if len(r.state.Receivers) >= 2*r.d.Slots {
			return "", &fault{"S:Receiver", "ter:Action", "ter:MaxReceivers", "The maximum number of receivers is reached"}
		}
		if _, err := streamurl.Parse(o.arg("MediaUri")); err != nil {
			return "", invalid("ter:BadConfiguration", "The media URI cannot be read")
		}
		if r.d.Defects.PlainSignIns && strings.Contains(strings.Split(o.arg("MediaUri"), "@")[0], "%") {
			return "", invalid("ter:BadConfiguration", "The media URI holds characters that are not allowed")
		}
		t := r.token("rcv")
		r.state.Receivers[t] = o.arg("MediaUri")
		r.startPull(t)
		return "<X:Receiver><T:Token>" + t + "</T:Token><T:Configuration><T:Mode>AutoConnect</T:Mode></T:Configuration></X:Receiver>", nil
	case "ConfigureReceiver":
		r.state.Receivers[token] = o.arg("MediaUri")
		r.live[token].Cancel()
		r.startPull(token)
		return "", nil
	case "DeleteReceiver":
		for _, j := range r.state.Jobs {
			if j.Receiver == token {
				return "", &fault{"S:Sender", "ter:OperationProhibited", "", "The receiver is in use"}
			}
		}
		delete(r.state.Receivers, token)
		r.live[token].Cancel()
		delete(r.live, token)
		return "", nil
	case "GetReceiverState":
		return "<X:ReceiverState><T:State>" + now(r.live[token]) + "</T:State><T:AutoCreated>false</T:AutoCreated></X:ReceiverState>", nil
	}
	return unsupported(o)
}

func (r *recorder) recordingService(o operation) (string, *fault) {
	r.mu.Lock()
	defer r.mu.Unlock()
	defer r.save()
	switch o.name {
	case "GetServiceCapabilities":
		return fmt.Sprintf(`<X:Capabilities DynamicRecordings="true" MaxRecordings="%d" MaxRecordingJobs="%d"/>`,
			r.d.Slots+len(r.d.Channels), r.d.Slots+len(r.d.Channels)), nil
	case "GetRecordings":
		return r.recordings(), nil
	case "CreateRecording":
		return r.createRecording(o)
	case "DeleteRecording":
		token := o.arg("RecordingToken")
		if _, ok := r.state.Recordings[token]; !ok {
			return "", invalid("ter:NoRecording", "There is no such recording")
		}
		for _, j := range r.state.Jobs {
			if j.Recording == token {
				return "", &fault{"S:Sender", "ter:OperationProhibited", "", "A job records into it"}
			}
		}
		delete(r.state.Recordings, token)
		return "", nil
	case "GetRecordingJobs":
		return r.jobs(), nil
	case "CreateRecordingJob":
		j := jobState{Recording: o.arg("RecordingToken"), Receiver: o.arg("Token")}
		if _, ok := r.state.Recordings[j.Recording]; !ok {
			return "", invalid("ter:NoRecording", "There is no such recording")
		}
		if _, ok := r.state.Receivers[j.Receiver]; !ok {
			return "", &fault{"S:Sender", "ter:BadConfiguration", "", "There is no such receiver"}
		}
		t := r.token("job")
		r.state.Jobs[t] = j
		return "<X:JobToken>" + t + "</X:JobToken>", nil
	case "DeleteRecordingJob":
		if _, ok := r.state.Jobs[o.arg("JobToken")]; !ok {
			return "", invalid("ter:NoRecordingJob", "There is no such job")
		}
		delete(r.state.Jobs, o.arg("JobToken"))
		return "", nil
	case "GetRecordingJobState":
		j, ok := r.state.Jobs[o.arg("JobToken")]
		if !ok {
			return "", invalid("ter:NoRecordingJob", "There is no such job")
		}
		state := map[string]string{"Connected": "Active", "Connecting": "Idle"}[now(r.live[j.Receiver])]
		if state == "" {
			state = "Error"
		}
		return "<X:State><T:RecordingToken>" + j.Recording + "</T:RecordingToken><T:State>" + state + "</T:State></X:State>", nil
	}
	return unsupported(o)
}

// recordings lists its own channels and what was put onto it. The caller holds mu.
func (r *recorder) recordings() string {
	var b strings.Builder
	for i, c := range r.d.Channels {
		about := ""
		if c.Page != 0 {
			about = fmt.Sprintf("page http://%s/", r.d.named(c.Page))
		}
		fmt.Fprintf(&b,
			"<X:RecordingItem><T:RecordingToken>own_%02d</T:RecordingToken><T:Configuration><T:Source><T:SourceId>port-%d</T:SourceId>"+
				"<T:Name>%s</T:Name><T:Location>switch port %d</T:Location><T:Description>%s</T:Description><T:Address>%s</T:Address>"+
				"</T:Source></T:Configuration></X:RecordingItem>",
			i+1, i+1, onvif.Escape(c.Name), i+1, about, c.Address)
	}
	for _, t := range sorted(r.state.Recordings) {
		rec := r.state.Recordings[t]
		fmt.Fprintf(&b,
			"<X:RecordingItem><T:RecordingToken>%s</T:RecordingToken><T:Configuration><T:Source><T:SourceId>%s</T:SourceId>"+
				"<T:Name>%s</T:Name><T:Location/><T:Description/><T:Address>%s</T:Address></T:Source></T:Configuration></X:RecordingItem>",
			t, onvif.Escape(rec.SourceID), onvif.Escape(rec.Name), onvif.Escape(rec.Address))
	}
	return b.String()
}

// jobs lists the recording jobs of its own channels and of what was put onto it. The caller holds mu.
func (r *recorder) jobs() string {
	var b strings.Builder
	item := func(job, recording, kind, token string) {
		fmt.Fprintf(&b,
			`<X:JobItem><T:JobToken>%s</T:JobToken><T:JobConfiguration><T:RecordingToken>%s</T:RecordingToken><T:Mode>Active</T:Mode>`+
				`<T:Priority>1</T:Priority><T:Source><T:SourceToken Type="%s/%s"><T:Token>%s</T:Token></T:SourceToken></T:Source>`+
				`</T:JobConfiguration></X:JobItem>`,
			job, recording, onvif.NSSchema, kind, token)
	}
	for i, f := range r.d.sending() {
		if f.tier == 0 {
			item(fmt.Sprintf("own_job_%02d", f.channel), fmt.Sprintf("own_%02d", f.channel), "Profile", fmt.Sprintf("prof_%d", i))
		}
	}
	for _, t := range sorted(r.state.Jobs) {
		item(t, r.state.Jobs[t].Recording, "Receiver", r.state.Jobs[t].Receiver)
	}
	return b.String()
}

// replayService says where a slot can be played from; it begins with what comes now.
func (r *recorder) replayService(o operation) (string, *fault) {
	r.mu.Lock()
	defer r.mu.Unlock()
	token := o.arg("RecordingToken")
	if _, ok := r.state.Recordings[token]; !ok || o.name != "GetReplayUri" {
		return "", invalid("ter:NoRecording", "There is no such recording")
	}
	var n int
	fmt.Sscanf(token, "slot_%d", &n)
	return "<X:Uri>rtsp://" + onvif.Escape(r.d.named(r.d.rtspPort)+r.d.maker.path(len(r.d.Channels)+n, 0)) + "</X:Uri>", nil
}

// createRecording gives the lowest free slot.
func (r *recorder) createRecording(o operation) (string, *fault) {
	for n := 1; n <= r.d.Slots; n++ {
		t := fmt.Sprintf("slot_%02d", n)
		if _, used := r.state.Recordings[t]; used {
			continue
		}
		r.state.Recordings[t] = recordingState{SourceID: o.arg("SourceId"), Name: o.arg("Name"), Address: o.arg("Address")}
		return "<X:RecordingToken>" + t + "</X:RecordingToken>", nil
	}
	return "", &fault{"S:Receiver", "ter:Action", "ter:MaxRecordings", "The maximum number of recordings is reached"}
}

func sorted[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func hideSignIn(uri string) string {
	u, err := streamurl.Parse(uri)
	if err != nil {
		return ""
	}
	return u.String()
}

// startPull connects a receiver and keeps trying; the caller holds mu or owns r alone.
func (r *recorder) startPull(token string) {
	r.live[token] = puller.Start(r.ctx, puller.Source{URL: r.state.Receivers[token]})
	r.pulls = append(r.pulls, r.live[token])
}

func now(p *puller.Pull) string { state, _ := p.State(); return state }

// A Slot is what a recorder really received for one of its recordings.
type Slot struct {
	Token, Name string
	State       string
	Frames      int
	Bytes       int64
}

// Slots looks into a recorder.
func (l Look) Slots() (out []Slot) {
	r := l.d.recorder
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, t := range sorted(r.state.Recordings) {
		s := Slot{Token: t, Name: r.state.Recordings[t].Name}
		for _, j := range r.state.Jobs {
			if p := r.live[j.Receiver]; j.Recording == t && p != nil {
				s.State = now(p)
				s.Frames, s.Bytes = p.Counts()
			}
		}
		out = append(out, s)
	}
	return out
}
