package onvif

import (
	"context"
	"strings"

	"unlatch/core/stream/camera"
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

// A RecordingJob feeds a recording from a receiver or from a media profile of the recorder's own (Recording Control §5.15).
type RecordingJob struct {
	Token     string
	Recording string
	Receiver  string // "" where a profile feeds it
	Profile   string // "" where a receiver feeds it
}

// RecordingJobs lists them (Recording Control §5.17).
func (c *Client) RecordingJobs(ctx context.Context) ([]RecordingJob, error) {
	var out struct {
		Items []struct {
			Token     string `xml:"JobToken"`
			Recording string `xml:"JobConfiguration>RecordingToken"`
			Source    struct {
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
		// The type's default is a receiver.
		if strings.HasSuffix(strings.TrimSpace(x.Source.Type), "/Profile") {
			j.Profile = x.Source.Token
		} else {
			j.Receiver = x.Source.Token
		}
		list = append(list, j)
	}
	return list, nil
}

// CreateRecordingJob starts recording from a receiver, mode Active (Recording Control §5.15).
func (c *Client) CreateRecordingJob(ctx context.Context, recording, receiver string) (string, error) {
	var out struct {
		Token string `xml:"JobToken"`
	}
	err := c.call(ctx, NSRecording, "CreateRecordingJob",
		`<JobConfiguration><tt:RecordingToken>`+Escape(recording)+`</tt:RecordingToken><tt:Mode>Active</tt:Mode><tt:Priority>1</tt:Priority>`+
			`<tt:Source><tt:SourceToken Type="`+NSSchema+`/Receiver"><tt:Token>`+Escape(receiver)+`</tt:Token></tt:SourceToken>`+
			`</tt:Source></JobConfiguration>`, &out)
	return out.Token, err
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

// MaxRecordings returns the number of recordings the device can hold (Recording Control §5.22); 0 where it does not say.
func (c *Client) MaxRecordings(ctx context.Context) (int, error) {
	var out struct {
		Capabilities struct {
			Max float64 `xml:"MaxRecordings,attr"`
		} `xml:"Capabilities"`
	}
	err := c.call(ctx, NSRecording, "GetServiceCapabilities", "", &out)
	return int(out.Capabilities.Max), err
}

// call sends operation to the service of a namespace.
func (c *Client) call(ctx context.Context, ns, operation, inner string, out any) error {
	address, err := c.service(ctx, ns)
	if err != nil {
		return err
	}
	return c.Call(ctx, address, ns+"/"+operation, `<`+operation+` xmlns="`+ns+`">`+inner+`</`+operation+`>`, out)
}

// ReplayURI asks where a recording can be played from (Replay Control §5.2), the host replaced where it is none that the recorder
// has; "" where it has no replay service.
func (c *Client) ReplayURI(ctx context.Context, recording string) (string, error) {
	services, err := c.Services(ctx)
	if err != nil || services[NSReplay] == "" {
		return "", err
	}
	var out struct {
		URI string `xml:"Uri"`
	}
	err = c.call(ctx, NSReplay, "GetReplayUri",
		`<StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport>`+
			`</StreamSetup><RecordingToken>`+Escape(recording)+`</RecordingToken>`, &out)
	if err != nil {
		return "", err
	}
	var s camera.Stream
	if err := c.usable(strings.TrimSpace(out.URI), &s); err != nil {
		return "", err
	}
	return s.URL, nil
}
