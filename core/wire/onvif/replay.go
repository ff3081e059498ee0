package onvif

import (
	"context"
	"strings"
	"time"

	"unlatch/core/stream/camera"
)

// ReplayURI asks where a recording can be played from (Replay Control Service, GetReplayUri), the host replaced where it is none that the
// recorder has; "" where it has no replay service. What is played there is asked for with rtsp.Replay.
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

// LatestRecorded asks for the newest moment that a recording holds, by the recorder's clock (Recording Search Service,
// GetRecordingInformation; GetRecordingSummary, which speaks for all recordings, where that says nothing). It is the zero time where the
// recorder has no search service or does not say.
func (c *Client) LatestRecorded(ctx context.Context, recording string) (time.Time, error) {
	services, err := c.Services(ctx)
	if err != nil || services[NSSearch] == "" {
		return time.Time{}, err
	}
	var one struct {
		Latest string `xml:"RecordingInformation>LatestRecording"`
	}
	err = c.call(ctx, NSSearch, "GetRecordingInformation", `<RecordingToken>`+Escape(recording)+`</RecordingToken>`, &one)
	if err != nil {
		return time.Time{}, err
	}
	if at, ok := moment(one.Latest); ok {
		return at, nil
	}
	var all struct {
		Until string `xml:"Summary>DataUntil"`
	}
	if err := c.call(ctx, NSSearch, "GetRecordingSummary", "", &all); err != nil {
		return time.Time{}, err
	}
	at, _ := moment(all.Until)
	return at, nil
}

// moment reads a time as XML Schema writes it (dateTime, §3.2.7); one without a zone is taken for UTC.
func moment(text string) (time.Time, bool) {
	text = strings.TrimSpace(text)
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999"} {
		if at, err := time.Parse(layout, text); err == nil && at.Year() > 1970 {
			return at.UTC(), true
		}
	}
	return time.Time{}, false
}
