package sim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
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
	tapes map[string]*tape // what was recorded, by recording
}

// recorderState is the configuration that survives a restart.
type recorderState struct {
	Next       int
	Receivers  map[string]string // token to URI
	Recordings map[string]recordingState
	Jobs       map[string]jobState
}

type recordingState struct {
	SourceID, Name, Address string
	Tracks                  int // for pictures
}

// jobState is a job: one receiver a source, that of the first track first.
type jobState struct {
	Recording string
	Receivers []string
}

// maxTracks is how many streams one recording takes.
const maxTracks = 2

func newRecorder(ctx context.Context, d *device, o Options) (*recorder, error) {
	ctx, cancel := context.WithCancel(ctx)
	r := &recorder{d: d, ctx: ctx, halt: cancel, live: map[string]*puller.Pull{}, tapes: map[string]*tape{},
		state: recorderState{Receivers: map[string]string{}, Recordings: map[string]recordingState{}, Jobs: map[string]jobState{}}}
	d.services["/onvif/receiver"] = service{onvif.NSReceiver, r.receiverService}
	d.services["/onvif/recording"] = service{onvif.NSRecording, r.recordingService}
	if len(d.Channels) > 0 { // one that sends its own channels on plays the others too
		d.services["/onvif/replay"] = service{onvif.NSReplay, r.replayService}
		if d.Defects.Replay != "unknown" {
			d.services["/onvif/search"] = service{onvif.NSSearch, r.searchService}
		}
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
	maps.DeleteFunc(r.state.Jobs, func(_ string, j jobState) bool { return len(j.Receivers) == 0 }) // an older memory's
	r.roll()
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
	defer r.roll()
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
		uri := o.arg("MediaUri")
		if r.d.Defects.KeepsSignIn {
			uri = withSignInOf(uri, r.state.Receivers[token])
		}
		r.state.Receivers[token] = uri
		r.live[token].Cancel()
		r.startPull(token)
		return "", nil
	case "DeleteReceiver":
		for _, j := range r.state.Jobs {
			if slices.Contains(j.Receivers, token) {
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
	defer r.roll()
	switch o.name {
	case "GetServiceCapabilities":
		return fmt.Sprintf(`<X:Capabilities DynamicRecordings="true" DynamicTracks="%t" Options="%[1]t" MaxRecordings="%d" `+
			`MaxRecordingJobs="%[2]d"/>`,
			!r.d.Defects.OneTrack, r.d.Slots+len(r.d.Channels)), nil
	case "GetRecordingOptions", "CreateTrack":
		return r.trackOperation(o)
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
		delete(r.tapes, token)
		return "", nil
	case "GetRecordingJobs":
		return r.jobs(), nil
	case "CreateRecordingJob":
		j, f := r.job(o)
		if f != nil {
			return "", f
		}
		t := r.token("job")
		r.state.Jobs[t] = j
		return "<X:JobToken>" + t + "</X:JobToken>", nil
	case "SetRecordingJobConfiguration":
		if _, ok := r.state.Jobs[o.arg("JobToken")]; !ok {
			return "", invalid("ter:NoRecordingJob", "There is no such job")
		}
		j, f := r.job(o)
		if f != nil {
			return "", f
		}
		r.state.Jobs[o.arg("JobToken")] = j
		return "", nil
	case "DeleteRecordingJob":
		if _, ok := r.state.Jobs[o.arg("JobToken")]; !ok {
			return "", invalid("ter:NoRecordingJob", "There is no such job")
		}
		delete(r.state.Jobs, o.arg("JobToken"))
		return "", nil
	case "GetRecordingJobState":
		return r.jobState(o.arg("JobToken"))
	}
	return unsupported(o)
}

// job reads the configuration of a job.
func (r *recorder) job(o operation) (jobState, *fault) {
	j := jobState{Recording: o.arg("RecordingToken"), Receivers: o.args("Token")}
	rec, ok := r.state.Recordings[j.Recording]
	switch {
	case !ok:
		return j, invalid("ter:NoRecording", "There is no such recording")
	case len(j.Receivers) == 0 || len(j.Receivers) > rec.Tracks:
		return j, &fault{"S:Sender", "ter:BadConfiguration", "", "The sources do not match the tracks"}
	}
	for _, token := range j.Receivers {
		if _, ok := r.state.Receivers[token]; !ok {
			return j, &fault{"S:Sender", "ter:BadConfiguration", "", "There is no such receiver"}
		}
	}
	return j, nil
}

// jobState says how a job records.
func (r *recorder) jobState(token string) (string, *fault) {
	j, ok := r.state.Jobs[token]
	var own int
	if _, err := fmt.Sscanf(token, "own_job_%d", &own); err == nil && own >= 1 && own <= len(r.d.Channels) {
		j.Recording, ok = fmt.Sprintf("own_%02d", own), true
	}
	if !ok {
		return "", invalid("ter:NoRecordingJob", "There is no such job")
	}
	states := map[string]int{}
	for _, receiver := range j.Receivers {
		states[now(r.live[receiver])]++
	}
	state := "Active"
	switch n := states[puller.Connected]; {
	case own > 0 && r.d.Defects.OwnChannels == "idle":
		state = "Idle"
	case n == len(j.Receivers):
	case n > 0:
		state = "PartiallyActive"
	case states[puller.Connecting] > 0:
		state = "Idle"
	default:
		state = "Error"
	}
	return "<X:State><T:RecordingToken>" + j.Recording + "</T:RecordingToken><T:State>" + state + "</T:State></X:State>", nil
}

// trackOperation says how many streams a recording takes, and gives it one more track. The caller holds mu.
func (r *recorder) trackOperation(o operation) (string, *fault) {
	token := o.arg("RecordingToken")
	rec, ok := r.state.Recordings[token]
	switch {
	case r.d.Defects.OneTrack:
		return unsupported(o)
	case !ok:
		return "", invalid("ter:NoRecording", "There is no such recording")
	case o.name == "GetRecordingOptions":
		return fmt.Sprintf(`<X:Options><X:Job Spare="1"/><X:Track SpareTotal="%d" SpareVideo="%[1]d" SpareAudio="0" SpareMetadata="0"/>`+
			`</X:Options>`, maxTracks-rec.Tracks), nil
	case rec.Tracks >= maxTracks || o.arg("TrackType") != "Video":
		return "", &fault{"S:Receiver", "ter:Action", "ter:MaxTracks", "The maximum number of tracks is reached"}
	}
	rec.Tracks++
	r.state.Recordings[token] = rec
	return fmt.Sprintf("<X:TrackToken>video%d</X:TrackToken>", rec.Tracks), nil
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
				"<T:Name>%s</T:Name><T:Location/><T:Description/><T:Address>%s</T:Address></T:Source></T:Configuration>",
			t, onvif.Escape(rec.SourceID), onvif.Escape(rec.Name), onvif.Escape(rec.Address))
		b.WriteString("<X:Tracks>")
		for n := range rec.Tracks {
			fmt.Fprintf(&b, "<T:Track><T:TrackToken>video%d</T:TrackToken><T:Configuration><T:TrackType>Video</T:TrackType>"+
				"</T:Configuration></T:Track>", n+1)
		}
		b.WriteString("</X:Tracks></X:RecordingItem>")
	}
	return b.String()
}

// jobs lists the recording jobs of its own channels and of what was put onto it. The caller holds mu.
func (r *recorder) jobs() string {
	var b strings.Builder
	item := func(job, recording, kind string, tokens ...string) {
		fmt.Fprintf(&b,
			`<X:JobItem><T:JobToken>%s</T:JobToken><T:JobConfiguration><T:RecordingToken>%s</T:RecordingToken><T:Mode>Active</T:Mode>`+
				`<T:Priority>1</T:Priority>`, job, recording)
		for _, token := range tokens {
			fmt.Fprintf(&b, `<T:Source><T:SourceToken Type="%s/%s"><T:Token>%s</T:Token></T:SourceToken></T:Source>`, onvif.NSSchema,
				kind, token)
		}
		b.WriteString(`</T:JobConfiguration></X:JobItem>`)
	}
	for i, f := range r.d.sending() {
		if f.tier == 0 {
			item(fmt.Sprintf("own_job_%02d", f.channel), fmt.Sprintf("own_%02d", f.channel), "Profile", fmt.Sprintf("prof_%d", i))
		}
	}
	for _, t := range sorted(r.state.Jobs) {
		item(t, r.state.Jobs[t].Recording, "Receiver", r.state.Jobs[t].Receivers...)
	}
	return b.String()
}

// createRecording gives the lowest free slot.
func (r *recorder) createRecording(o operation) (string, *fault) {
	for n := 1; n <= r.d.Slots; n++ {
		t := fmt.Sprintf("slot_%02d", n)
		if _, used := r.state.Recordings[t]; used {
			continue
		}
		r.state.Recordings[t] = recordingState{SourceID: o.arg("SourceId"), Name: o.arg("Name"), Address: o.arg("Address"),
			Tracks: 1}
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

// withSignInOf returns a URI with the sign-in of another one.
func withSignInOf(uri, other string) string {
	u, err := streamurl.Parse(uri)
	o, oerr := streamurl.Parse(other)
	if err != nil || oerr != nil {
		return uri
	}
	u.SignIn = o.SignIn
	return u.Reveal()
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
	State       string // of the first stream
	Frames      int    // of all streams
	Bytes       int64
	Streams     int // that come
}

// Slots looks into a recorder.
func (l Look) Slots() (out []Slot) {
	r := l.d.recorder
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, t := range sorted(r.state.Recordings) {
		s := Slot{Token: t, Name: r.state.Recordings[t].Name}
		for _, j := range r.state.Jobs {
			for i, receiver := range j.Receivers {
				p := r.live[receiver]
				if j.Recording != t || p == nil {
					continue
				}
				if i == 0 {
					s.State = now(p)
				}
				if now(p) == puller.Connected {
					s.Streams++
				}
				frames, bytes := p.Counts()
				s.Frames, s.Bytes = s.Frames+frames, s.Bytes+bytes
			}
		}
		out = append(out, s)
	}
	return out
}

// Mix exchanges what two recordings record, as somebody does who changes cables about.
func (l Look) Mix(first, second string) {
	r := l.d.recorder
	r.mu.Lock()
	defer r.mu.Unlock()
	at := map[string]string{}
	for token, j := range r.state.Jobs {
		at[j.Recording] = token
	}
	a, b := r.state.Jobs[at[first]], r.state.Jobs[at[second]]
	a.Receivers, b.Receivers = b.Receivers, a.Receivers
	r.state.Jobs[at[first]], r.state.Jobs[at[second]] = a, b
	r.roll()
}
