package onvif

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"unlatch/core/stream/tuning"
)

// corners maps the positions of an overlay, by their names in the standard, to plain words.
var corners = map[string]string{"UpperLeft": "upper left", "UpperRight": "upper right", "LowerLeft": "lower left",
	"LowerRight": "lower right"}

func cornerWord(at string) string {
	for word, text := range corners {
		if text == at {
			return word
		}
	}
	return "UpperLeft"
}

// osdXML is an overlay in the form that Media and Media2 share (ONVIF Media Service §5.16).
type osdXML struct {
	Token string `xml:"token,attr"`
	Type  string `xml:"Type"`
	At    string `xml:"Position>Type"`
	Kind  string `xml:"TextString>Type"`
	Plain string `xml:"TextString>PlainText"`
	Size  int    `xml:"TextString>FontSize"`
}

// Overlays asks what text a device can draw into the pictures of a video source, and what it draws now (ONVIF Media Service §5.16.1,
// §5.16.3; Media2 Service §5.7). source is the token of a video source configuration. A device that knows nothing of it answers with a
// *Fault.
func (c *Client) Overlays(ctx context.Context, source string) (o tuning.Overlays, err error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return o, err
	}
	ask := func(name string, into any) error {
		return c.Call(ctx, address, ns+"/"+name, fmt.Sprintf(`<%s xmlns="%s"><ConfigurationToken>%s</ConfigurationToken></%s>`, name, ns,
			Escape(source), name), into)
	}
	var options struct {
		Most struct {
			Total int `xml:"Total,attr"`
		} `xml:"OSDOptions>MaximumNumberOfOSDs"`
		Types []string `xml:"OSDOptions>Type"`
		At    []string `xml:"OSDOptions>PositionOption"`
		Kinds []string `xml:"OSDOptions>TextOption>Type"`
		Sizes spanXML  `xml:"OSDOptions>TextOption>FontSizeRange"`
	}
	if err := ask("GetOSDOptions", &options); err != nil {
		return o, err
	}
	o.Most = min(max(options.Most.Total, 0), maxConfigurations)
	for _, k := range options.Kinds {
		if k = clip(k); k != "" && len(o.Kinds) < maxProfiles {
			o.Kinds = append(o.Kinds, k)
		}
	}
	for _, at := range options.At {
		if text := corners[strings.TrimSpace(at)]; text != "" && !slices.Contains(o.Corners, text) {
			o.Corners = append(o.Corners, text)
		}
	}
	o.Sizes = options.Sizes.span()
	var has struct {
		List []osdXML `xml:"OSDs"`
	}
	if err := ask("GetOSDs", &has); err != nil {
		return o, err
	}
	if len(has.List) > maxConfigurations {
		return o, &LimitError{What: "more than 256 overlays"}
	}
	for _, x := range has.List {
		if x.Type == "Text" {
			o.Has = append(o.Has, tuning.Text{Token: x.Token, Kind: clip(x.Kind), Plain: clip(x.Plain), At: corners[x.At], Size: x.Size})
		}
	}
	return o, nil
}

// osd writes an overlay as the standard has it.
func osd(source string, t tuning.Text) string {
	var text strings.Builder
	fmt.Fprintf(&text, "<tt:Type>%s</tt:Type>", Escape(t.Kind))
	if strings.Contains(t.Kind, "Date") {
		text.WriteString("<tt:DateFormat>yyyy-MM-dd</tt:DateFormat>")
	}
	if strings.Contains(t.Kind, "Time") {
		text.WriteString("<tt:TimeFormat>HH:mm:ss</tt:TimeFormat>")
	}
	if t.Size > 0 {
		fmt.Fprintf(&text, "<tt:FontSize>%d</tt:FontSize>", t.Size)
	}
	if t.Kind == "Plain" {
		fmt.Fprintf(&text, "<tt:PlainText>%s</tt:PlainText>", Escape(t.Plain))
	}
	return fmt.Sprintf(`<OSD token="%s"><tt:VideoSourceConfigurationToken>%s</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type>`+
		`<tt:Position><tt:Type>%s</tt:Type></tt:Position><tt:TextString>%s</tt:TextString></OSD>`, Escape(t.Token), Escape(source),
		cornerWord(t.At), &text)
}

// CreateOverlay has a device draw a text into the pictures of a source, and returns its token (ONVIF Media Service §5.16.5).
func (c *Client) CreateOverlay(ctx context.Context, source string, t tuning.Text) (string, error) {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return "", err
	}
	var out struct {
		Token string `xml:"OSDToken"`
	}
	t.Token = ""
	err = c.Call(ctx, address, ns+"/CreateOSD", `<CreateOSD xmlns="`+ns+`">`+osd(source, t)+`</CreateOSD>`, &out)
	return strings.TrimSpace(out.Token), err
}

// SetOverlay changes a text that a device draws (ONVIF Media Service §5.16.4).
func (c *Client) SetOverlay(ctx context.Context, source string, t tuning.Text) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	return c.Call(ctx, address, ns+"/SetOSD", `<SetOSD xmlns="`+ns+`">`+osd(source, t)+`</SetOSD>`, nil)
}

// DeleteOverlay takes a text out of the pictures (ONVIF Media Service §5.16.6).
func (c *Client) DeleteOverlay(ctx context.Context, token string) error {
	_, ns, address, err := c.media(ctx)
	if err != nil {
		return err
	}
	return c.Call(ctx, address, ns+"/DeleteOSD", `<DeleteOSD xmlns="`+ns+`"><OSDToken>`+Escape(token)+`</OSDToken></DeleteOSD>`, nil)
}
