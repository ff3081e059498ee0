package onvif

import (
	"context"
	"strings"
)

// A Receiver pulls one stream for a recorder (ONVIF Receiver Service §5).
type Receiver struct {
	Token string
	URI   string // as the recorder tells it; may hold a sign-in
}

// Receivers lists them (Receiver Service §5.2.1).
func (c *Client) Receivers(ctx context.Context) ([]Receiver, error) {
	var out struct {
		Receivers []struct {
			Token string `xml:"Token"`
			URI   string `xml:"Configuration>MediaUri"`
		} `xml:"Receivers"`
	}
	if err := c.call(ctx, NSReceiver, "GetReceivers", "", &out); err != nil {
		return nil, err
	}
	var list []Receiver
	for _, r := range out.Receivers {
		list = append(list, Receiver{Token: r.Token, URI: r.URI})
	}
	return list, nil
}

func receiverConfiguration(uri string) string {
	return `<Configuration><tt:Mode>AutoConnect</tt:Mode><tt:MediaUri>` + Escape(uri) + `</tt:MediaUri>` +
		`<tt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport>` +
		`</tt:StreamSetup></Configuration>`
}

// CreateReceiver makes a receiver for a stream URL (Receiver Service §5.2.3). The URL carries the sign-in.
func (c *Client) CreateReceiver(ctx context.Context, uri string) (token string, err error) {
	var out struct {
		Token string `xml:"Receiver>Token"`
	}
	err = c.call(ctx, NSReceiver, "CreateReceiver", receiverConfiguration(uri), &out)
	return out.Token, err
}

// ConfigureReceiver gives a receiver another URL (Receiver Service §5.2.5).
func (c *Client) ConfigureReceiver(ctx context.Context, token, uri string) error {
	return c.call(ctx, NSReceiver, "ConfigureReceiver", `<ReceiverToken>`+Escape(token)+`</ReceiverToken>`+receiverConfiguration(uri), nil)
}

// DeleteReceiver removes one (Receiver Service §5.2.4).
func (c *Client) DeleteReceiver(ctx context.Context, token string) error {
	return c.call(ctx, NSReceiver, "DeleteReceiver", `<ReceiverToken>`+Escape(token)+`</ReceiverToken>`, nil)
}

// ReceiverState is NotConnected, Connecting, Connected or Unknown (Receiver Service §5.2.7).
func (c *Client) ReceiverState(ctx context.Context, token string) (string, error) {
	var out struct {
		State string `xml:"ReceiverState>State"`
	}
	err := c.call(ctx, NSReceiver, "GetReceiverState", `<ReceiverToken>`+Escape(token)+`</ReceiverToken>`, &out)
	return strings.TrimSpace(out.State), err
}

// A Recording is a container of a recorder, to us a slot (Recording Control §5.4). SourceID is the identity of what it
// records; Unlatch writes the camera's endpoint reference there and recognises its own placements by it.
type Recording struct {
	Token    string `xml:"RecordingToken"`
	SourceID string `xml:"Configuration>Source>SourceId"`
	Name     string `xml:"Configuration>Source>Name"`
	Address  string `xml:"Configuration>Source>Address"`
	// Location and Description are the recorder's own words; written empty.
	Location    string `xml:"Configuration>Source>Location"`
	Description string `xml:"Configuration>Source>Description"`
	// Tracks are told by the recorder; it makes the first ones of a new recording itself.
	Tracks []Track `xml:"Tracks>Track"`
}

// A Track is what one stream is recorded into.
type Track struct {
	Token string `xml:"TrackToken"`
	Type  string `xml:"Configuration>TrackType"` // Video, Audio, Metadata
}

// VideoTracks returns the tokens of the tracks for pictures.
func (r Recording) VideoTracks() (tokens []string) {
	for _, t := range r.Tracks {
		if strings.TrimSpace(t.Type) == "Video" {
			tokens = append(tokens, strings.TrimSpace(t.Token))
		}
	}
	return tokens
}

// Recordings lists them (Recording Control §5.8).
func (c *Client) Recordings(ctx context.Context) ([]Recording, error) {
	var out struct {
		Items []Recording `xml:"RecordingItem"`
	}
	err := c.call(ctx, NSRecording, "GetRecordings", "", &out)
	for i := range out.Items {
		out.Items[i].Name, out.Items[i].SourceID = clip(out.Items[i].Name), clip(out.Items[i].SourceID)
	}
	return out.Items, err
}

// CreateRecording makes a recording for a source (Recording Control §5.6) and returns its token.
func (c *Client) CreateRecording(ctx context.Context, r Recording) (string, error) {
	var out struct {
		Token string `xml:"RecordingToken"`
	}
	err := c.call(ctx, NSRecording, "CreateRecording",
		`<RecordingConfiguration><tt:Source><tt:SourceId>`+Escape(r.SourceID)+`</tt:SourceId><tt:Name>`+Escape(r.Name)+
			`</tt:Name><tt:Location></tt:Location><tt:Description></tt:Description><tt:Address>`+Escape(r.Address)+`</tt:Address></tt:Source>`+
			`<tt:Content>Live</tt:Content><tt:MaximumRetentionTime>PT0S</tt:MaximumRetentionTime></RecordingConfiguration>`, &out)
	return out.Token, err
}

// DeleteRecording removes one with what it holds (Recording Control §5.7).
func (c *Client) DeleteRecording(ctx context.Context, token string) error {
	return c.call(ctx, NSRecording, "DeleteRecording", `<RecordingToken>`+Escape(token)+`</RecordingToken>`, nil)
}

// SpareVideoTracks asks how many more tracks for pictures a recording can have (Recording Control, GetRecordingOptions).
func (c *Client) SpareVideoTracks(ctx context.Context, recording string) (int, error) {
	var out struct {
		Track struct {
			Total int `xml:"SpareTotal,attr"`
			Video int `xml:"SpareVideo,attr"`
		} `xml:"Options>Track"`
	}
	err := c.call(ctx, NSRecording, "GetRecordingOptions", `<RecordingToken>`+Escape(recording)+`</RecordingToken>`, &out)
	return max(0, min(out.Track.Video, out.Track.Total)), err
}

// CreateVideoTrack adds a track for pictures to a recording (Recording Control, CreateTrack) and returns its token.
func (c *Client) CreateVideoTrack(ctx context.Context, recording, description string) (token string, err error) {
	var out struct {
		Token string `xml:"TrackToken"`
	}
	err = c.call(ctx, NSRecording, "CreateTrack", `<RecordingToken>`+Escape(recording)+`</RecordingToken><TrackConfiguration>`+
		`<tt:TrackType>Video</tt:TrackType><tt:Description>`+Escape(description)+`</tt:Description></TrackConfiguration>`, &out)
	return strings.TrimSpace(out.Token), err
}

// A RecordingJob feeds a recording from receivers or from a media profile of the recorder's own (Recording Control §5.15).
type RecordingJob struct {
	Token     string
	Recording string
	Receivers []string // empty where a profile feeds it
	Profile   string   // "" where receivers feed it
}

// RecordingJobs lists them (Recording Control §5.17).
func (c *Client) RecordingJobs(ctx context.Context) ([]RecordingJob, error) {
	var out struct {
		Items []struct {
			Token     string `xml:"JobToken"`
			Recording string `xml:"JobConfiguration>RecordingToken"`
			Sources   []struct {
				Type  string `xml:"Type,attr"`
				Token string `xml:"Token"`
			} `xml:"JobConfiguration>Source>SourceToken"`
		} `xml:"JobItem"`
	}
	if err := c.call(ctx, NSRecording, "GetRecordingJobs", "", &out); err != nil {
		return nil, err
	}
	var list []RecordingJob
	for _, x := range out.Items {
		j := RecordingJob{Token: x.Token, Recording: x.Recording}
		for _, s := range x.Sources[:min(len(x.Sources), maxSources)] {
			if strings.HasSuffix(strings.TrimSpace(s.Type), "/Profile") { // the type's default is a receiver
				j.Profile = s.Token
			} else {
				j.Receivers = append(j.Receivers, s.Token)
			}
		}
		list = append(list, j)
	}
	return list, nil
}

// maxSources bounds the sources of one job.
const maxSources = 16

// A Source feeds one track of a recording from a receiver.
type Source struct {
	Receiver string
	Track    string // "" leaves it to the recorder, which is enough where there is one source
}

func jobConfiguration(recording string, sources []Source) string {
	var b strings.Builder
	b.WriteString(`<JobConfiguration><tt:RecordingToken>` + Escape(recording) + `</tt:RecordingToken><tt:Mode>Active</tt:Mode>` +
		`<tt:Priority>1</tt:Priority>`)
	for _, s := range sources {
		b.WriteString(`<tt:Source><tt:SourceToken Type="` + NSSchema + `/Receiver"><tt:Token>` + Escape(s.Receiver) +
			`</tt:Token></tt:SourceToken>`)
		if s.Track != "" {
			b.WriteString(`<tt:Tracks><tt:SourceTag>video</tt:SourceTag><tt:Destination>` + Escape(s.Track) + `</tt:Destination></tt:Tracks>`)
		}
		b.WriteString(`</tt:Source>`)
	}
	return b.String() + `</JobConfiguration>`
}

// CreateRecordingJob starts recording from receivers, mode Active (Recording Control §5.15).
func (c *Client) CreateRecordingJob(ctx context.Context, recording string, sources []Source) (string, error) {
	var out struct {
		Token string `xml:"JobToken"`
	}
	err := c.call(ctx, NSRecording, "CreateRecordingJob", jobConfiguration(recording, sources), &out)
	return out.Token, err
}

// SetRecordingJob gives a job other sources (Recording Control, SetRecordingJobConfiguration).
func (c *Client) SetRecordingJob(ctx context.Context, job, recording string, sources []Source) error {
	return c.call(ctx, NSRecording, "SetRecordingJobConfiguration",
		`<JobToken>`+Escape(job)+`</JobToken>`+jobConfiguration(recording, sources), nil)
}

// DeleteRecordingJob ends one (Recording Control §5.16).
func (c *Client) DeleteRecordingJob(ctx context.Context, token string) error {
	return c.call(ctx, NSRecording, "DeleteRecordingJob", `<JobToken>`+Escape(token)+`</JobToken>`, nil)
}

// RecordingJobState is Idle, PartiallyActive, Active or Error (Recording Control §5.20).
func (c *Client) RecordingJobState(ctx context.Context, job string) (string, error) {
	var out struct {
		State string `xml:"State>State"`
	}
	err := c.call(ctx, NSRecording, "GetRecordingJobState", `<JobToken>`+Escape(job)+`</JobToken>`, &out)
	return strings.TrimSpace(out.State), err
}

// RecordingCapabilities are what a recorder can do (Recording Control §5.22).
type RecordingCapabilities struct {
	Max           int  // recordings that it can hold; 0 where it does not say
	DynamicTracks bool // tracks can be added to a recording
	Options       bool // it says how many
}

// RecordingCapabilities asks for them.
func (c *Client) RecordingCapabilities(ctx context.Context) (RecordingCapabilities, error) {
	var out struct {
		Capabilities struct {
			Max     float64 `xml:"MaxRecordings,attr"`
			Tracks  string  `xml:"DynamicTracks,attr"`
			Options string  `xml:"Options,attr"`
		} `xml:"Capabilities"`
	}
	err := c.call(ctx, NSRecording, "GetServiceCapabilities", "", &out)
	x := out.Capabilities
	return RecordingCapabilities{int(min(max(x.Max, 0), 1e6)), yes(x.Tracks), yes(x.Options)}, err
}

// yes reads a boolean of XML Schema; what is neither true nor false is false.
func yes(text string) bool { return text == "true" || text == "1" }

// call sends operation to the service of a namespace.
func (c *Client) call(ctx context.Context, ns, operation, inner string, out any) error {
	address, err := c.service(ctx, ns)
	if err != nil {
		return err
	}
	return c.Call(ctx, address, ns+"/"+operation, `<`+operation+` xmlns="`+ns+`">`+inner+`</`+operation+`>`, out)
}
