package onvif_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
)

// answering returns a client of a device whose Media service (Media2 where two is set) answers operations with the XML given.
func answering(t *testing.T, two bool, answers map[string]string) *onvif.Client {
	ns := onvif.NSMedia
	if two {
		ns = onvif.NSMedia2
	}
	var h *httptest.Server
	h = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, action, _ := strings.Cut(r.Header.Get("Content-Type"), `wsdl/`)
		name := strings.TrimSuffix(action, `"`)
		inner, known := answers[name]
		if name == "GetServices" {
			inner, known = fmt.Sprintf("<D:Service><D:Namespace>%s</D:Namespace><D:XAddr>%s/media</D:XAddr></D:Service>", ns, h.URL), true
		}
		inner = "<X:R>" + inner + "</X:R>"
		if !known {
			w.WriteHeader(500)
			inner = `<S:Fault><S:Code><S:Value>S:Receiver</S:Value></S:Code><S:Reason><S:Text>No such thing</S:Text></S:Reason></S:Fault>`
		}
		fmt.Fprintf(w, `<S:Envelope xmlns:S="%s" xmlns:D="%s" xmlns:X="%s" xmlns:T="%s"><S:Body>%s</S:Body></S:Envelope>`,
			onvif.NSSoap, onvif.NSDevice, ns, onvif.NSSchema, inner)
	}))
	t.Cleanup(h.Close)
	c := onvif.New(h.URL, onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.1")}, Timeout: 2 * time.Second})
	t.Cleanup(c.Close)
	return c
}

// What a device offers may be nonsense: ranges upside down or below nought, empty lists, sizes without end. It is read as far as it makes
// sense, and bounded.
func TestOptionsThatMakeNoSense(t *testing.T) {
	e := onvif.EncoderOf{Profile: "p", Encoder: tuning.Encoder{Token: "e"}}
	c := answering(t, false,
		map[string]string{"GetVideoEncoderConfigurationOptions": `<X:Options><T:QualityRange><T:Min>9</T:Min><T:Max>-3</T:Max></T:QualityRange>` +
			`<T:H264>` + strings.Repeat("<T:ResolutionsAvailable><T:Width>640</T:Width><T:Height>360</T:Height></T:ResolutionsAvailable>", 10_000) +
			`<T:ResolutionsAvailable><T:Width>-4</T:Width><T:Height>0</T:Height></T:ResolutionsAvailable>` +
			`<T:GovLengthRange><T:Min>200</T:Min><T:Max>1</T:Max></T:GovLengthRange><T:FrameRateRange><T:Min>-25</T:Min>` +
			`<T:Max>-1</T:Max></T:FrameRateRange>` +
			`</T:H264></X:Options>`})
	o, err := c.EncoderOptions(ctx, e)
	require.NoError(t, err)
	h264, ok := o.Of("H.264")
	require.True(t, ok)
	assert.LessOrEqual(t, len(h264.Sizes), 256)
	assert.Equal(t, tuning.Span{Min: 1, Max: 200}, h264.GOP)
	assert.Equal(t, tuning.Span{}, h264.FPSSpan, "no rate is offered: what was asked is sent, and the device's answer tells")
	assert.Equal(t, tuning.Span{Min: 0, Max: 9}, h264.Quality)
	want, _, _ := tuning.Towards("main", tuning.Stream{Width: 320, Height: 180, FPS: 12, GOPFrames: 500}, tuning.Encoder{Codec: "H.264"}, o)
	assert.Equal(t, []any{640, 12.0, 200}, []any{want.Width, want.FPS, want.GOPFrames})

	two := answering(t, true, map[string]string{"GetVideoEncoderConfigurationOptions": `<X:Options FrameRatesSupported="-5 x 0 1e9 ` +
		strings.Repeat("15 ", 500) + `" GovLengthRange=""><T:Encoding>H265</T:Encoding></X:Options>`})
	o, err = two.EncoderOptions(ctx, e)
	require.NoError(t, err)
	h265, _ := o.Of("H.265")
	assert.LessOrEqual(t, len(h265.FPS), 64)
	for _, v := range h265.FPS {
		assert.Equal(t, 15.0, v)
	}
	many := answering(t, true,
		map[string]string{"GetVideoEncoderConfigurationOptions": strings.Repeat("<X:Options><T:Encoding>H264</T:Encoding></X:Options>", 17)})
	_, err = many.EncoderOptions(ctx, e)
	assert.ErrorAs(t, err, new(*onvif.LimitError))
	empty := answering(t, false, map[string]string{"GetVideoEncoderConfigurationOptions": ""})
	o, err = empty.EncoderOptions(ctx, e)
	require.NoError(t, err)
	assert.Empty(t, o.Codecs)
}

func TestListsWithoutEnd(t *testing.T) {
	many := func(element string) string { return strings.Repeat("<X:"+element+` token="x"></X:`+element+">", 300) }
	c := answering(t, false, map[string]string{"GetVideoEncoderConfigurations": many("Configurations"), "GetOSDs": many("OSDs"),
		"GetOSDOptions": `<X:OSDOptions><T:MaximumNumberOfOSDs Total="-3"/>` +
			strings.Repeat("<T:PositionOption>UpperLeft</T:PositionOption>", 999) + `</X:OSDOptions>`,
		"GetGuaranteedNumberOfVideoEncoderInstances": "<X:TotalNumber>-7</X:TotalNumber>",
		"GetAudioEncoderConfigurationOptions": "<X:Options>" +
			strings.Repeat("<T:Options><T:Encoding>G711</T:Encoding></T:Options>", 900) + "</X:Options>"})
	_, err := c.VideoEncoders(ctx)
	assert.ErrorAs(t, err, new(*onvif.LimitError))
	o, err := c.Overlays(ctx, "vsc")
	assert.ErrorAs(t, err, new(*onvif.LimitError))
	assert.Equal(t, []any{0, []string{"upper left"}}, []any{o.Most, o.Corners})
	n, err := c.Instances(ctx, "vsc")
	require.NoError(t, err)
	assert.Zero(t, n, "a number that cannot be is none")
	codecs, err := c.AudioOptions(ctx, onvif.EncoderOf{})
	require.NoError(t, err)
	assert.Equal(t, []string{"G.711"}, codecs)
	_, err = c.CreateProfile(ctx, "Sub", "vsc", "enc")
	assert.ErrorAs(t, err, new(*onvif.Fault))
}
