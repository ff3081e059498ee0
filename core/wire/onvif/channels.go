package onvif

import (
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"unlatch/core/stream/camera"
)

// Channels asks a recorder for the channels that it sends on: its media profiles by video source, and the recording that a job of type
// Profile feeds from each (Recording Control §5.15), whose source information says whose picture it is.
func (c *Client) Channels(ctx context.Context) ([]camera.Channel, error) {
	if _, err := c.Services(ctx); err != nil {
		return nil, err
	}
	if c.services[NSMedia] == "" && c.services[NSMedia2] == "" {
		return nil, nil // it records and sends nothing on
	}
	profiles, err := c.Profiles(ctx)
	if err != nil {
		return nil, err
	}
	streams := camera.GiveRoles(profiles, nil)
	for i := range streams {
		if err := c.StreamURL(ctx, &streams[i]); err != nil {
			return nil, err
		}
	}
	recordings, err := c.Recordings(ctx)
	if err != nil {
		return nil, err
	}
	jobs, err := c.RecordingJobs(ctx)
	if err != nil {
		return nil, err
	}
	sources := map[string]Recording{} // by media profile
	for _, j := range jobs {
		for _, r := range recordings {
			if j.Profile != "" && r.Token == j.Recording {
				sources[j.Profile] = r
			}
		}
	}
	var out []camera.Channel
	for _, st := range streams {
		if len(out) == 0 || out[len(out)-1].Number != st.Channel {
			out = append(out, camera.Channel{Number: st.Channel})
		}
		ch := &out[len(out)-1]
		ch.Streams = append(ch.Streams, st)
		if r, ok := sources[st.Token]; ok {
			c.describe(ch, r)
		}
	}
	return out, nil
}

// ChannelJobs returns the jobs that record the recorder's own channels, by the number of the channel; none where it does not record.
func (c *Client) ChannelJobs(ctx context.Context) (map[int]RecordingJob, error) {
	services, err := c.Services(ctx)
	if err != nil || services[NSRecording] == "" {
		return nil, err
	}
	profiles, err := c.Profiles(ctx)
	if err != nil {
		return nil, err
	}
	jobs, err := c.RecordingJobs(ctx)
	if err != nil {
		return nil, err
	}
	out := map[int]RecordingJob{}
	for _, st := range camera.GiveRoles(profiles, nil) {
		i := slices.IndexFunc(jobs, func(j RecordingJob) bool { return j.Profile != "" && j.Profile == st.Token })
		if i >= 0 {
			out[st.Channel] = jobs[i]
		}
	}
	return out, nil
}

// describe reads a recording's source information. Its fields are free text by the standard, so that each is looked at for an
// address and for a link back to the recorder itself; a link elsewhere is no way through.
func (c *Client) describe(ch *camera.Channel, r Recording) {
	ch.Name, ch.Source, ch.Place = r.Name, r.SourceID, clip(strings.TrimSpace(r.Location))
	own := ""
	if u, err := url.Parse(c.device); err == nil {
		own = u.Hostname()
	}
	for _, text := range []string{r.Address, r.Location, r.Description} {
		for _, word := range strings.Fields(clip(text)) {
			host := word
			if u, err := url.Parse(word); err == nil && u.Host != "" {
				host = u.Hostname()
				if host == own && ch.Page == "" && u.User == nil && (u.Scheme == "http" || u.Scheme == "https") {
					ch.Page = u.String()
				}
			}
			if a, err := netip.ParseAddr(host); err == nil && host != own && !ch.Camera.IsValid() {
				ch.Camera = a
			}
		}
	}
}
