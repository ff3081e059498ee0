package onvif_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/camera"
	"unlatch/core/wire/onvif"
)

// saying returns a device whose answers are given by the first word of the operation.
func saying(t *testing.T, answers map[string]string) *onvif.Client {
	var s *httptest.Server
	s = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, name, _ := strings.Cut(r.Header.Get("Content-Type"), "action=\"")
		name = strings.TrimSuffix(name[strings.LastIndex(name, "/")+1:], "\"")
		body := answers[name]
		if name == "GetServices" {
			for _, ns := range []string{onvif.NSPTZ, onvif.NSMedia} {
				body += "<Service><Namespace>" + ns + "</Namespace><XAddr>" + s.URL + "/x</XAddr></Service>"
			}
		}
		fmt.Fprintf(w, `<Envelope xmlns="%s"><Body><%sResponse>%s</%sResponse></Body></Envelope>`, onvif.NSSoap, name, body, name)
	}))
	t.Cleanup(s.Close)
	c := onvif.New(s.URL, onvif.Options{Dial: &net.Dialer{}})
	t.Cleanup(c.Close)
	return c
}

// Where a camera says it looks is a claim: what is no position counts as none, and nothing is moved by it.
func TestPositionsThatCannotBe(t *testing.T) {
	node := `<PTZNode><SupportedPTZSpaces><AbsolutePanTiltPositionSpace/></SupportedPTZSpaces></PTZNode>`
	status := func(x, y, zoom string) string {
		return fmt.Sprintf(`<PTZStatus><Position><PanTilt x="%s" y="%s"/><Zoom x="%s"/></Position><MoveStatus>`+
			`<PanTilt> moving </PanTilt></MoveStatus></PTZStatus>`, x, y, zoom)
	}
	p, err := saying(t, map[string]string{"GetNodes": node, "GetStatus": status("0.5", "-1", "0")}).PTZ(context.Background(), "p")
	require.NoError(t, err)
	assert.Equal(t, onvif.PTZ{Absolute: true, At: &camera.Position{Pan: .5, Tilt: -1}, Moving: true}, p)
	for _, x := range [][3]string{{"NaN", "0", "0"}, {"Inf", "0", "0"}, {"0", "1e300", "0"}, {"0", "0", "-1.5"}, {"2", "0", "0"}} {
		p, err := saying(t, map[string]string{"GetNodes": node, "GetStatus": status(x[0], x[1], x[2])}).PTZ(context.Background(), "p")
		require.NoError(t, err, x)
		assert.Nil(t, p.At, x)
	}
	p, err = saying(t, map[string]string{"GetStatus": "<PTZStatus/>"}).PTZ(context.Background(), "p")
	require.NoError(t, err)
	assert.Equal(t, onvif.PTZ{}, p)
	_, err = saying(t, map[string]string{"GetNodes": node, "GetStatus": status("left", "0", "0")}).PTZ(context.Background(), "p")
	assert.Error(t, err, "no number")
	_, err = saying(t, map[string]string{"GetNodes": strings.Repeat(node, 500)}).PTZ(context.Background(), "p")
	var limit *onvif.LimitError
	assert.ErrorAs(t, err, &limit)
}

// A group is taken as one only where it can be; ports and lives are brought into their bounds.
func TestGroupsThatCannotBe(t *testing.T) {
	for given, want := range map[string]string{
		`<IPv4Address>239.255.1.2</IPv4Address></Address><Port>50000</Port><TTL>4</TTL>` +
			`<AutoStart>true</AutoStart>`: "239.255.1.2:50000, TTL 4, always on",
		`<IPv4Address> 239.255.1.2 </IPv4Address></Address><Port>50000</Port>` +
			`<TTL>4000</TTL>`: "239.255.1.2:50000, TTL 255",
		`<IPv4Address>192.0.2.1</IPv4Address></Address><Port>50000</Port><TTL>4</TTL>`:                               "no group",
		`<IPv4Address>0.0.0.0</IPv4Address></Address><Port>0</Port><TTL>5</TTL>`:                                     "no group",
		`<IPv4Address>239.255.1.2</IPv4Address></Address><Port>-7</Port><TTL>-1</TTL>`:                               "no group",
		`<IPv4Address>239.255.1.2</IPv4Address></Address><Port>900000</Port><TTL>1</TTL>`:                            "239.255.1.2:65535, TTL 1",
		`<IPv6Address>ff02::1%lo</IPv6Address></Address><Port>50000</Port><TTL>1</TTL>`:                              "no group",
		`<IPv4Address>&lt;script&gt;</IPv4Address></Address><Port>50000</Port><TTL>1</TTL>`:                          "no group",
		`<IPv4Address>239.255.1.2</IPv4Address></Address><Port>50000</Port><TTL>1</TTL><AutoStart>false</AutoStart>`: "239.255.1.2:50000, TTL 1",
	} {
		list, err := saying(t,
			map[string]string{"GetProfiles": `<Profiles token="p"><VideoEncoderConfiguration token="e"><Encoding>H264</Encoding>` +
				`<Resolution><Width>320</Width>` +
				`<Height>180</Height></Resolution><Multicast><Address><Type>IPv4</Type>` + given +
				`</Multicast></VideoEncoderConfiguration></Profiles>`}).Encoders(context.Background())
		require.NoError(t, err, given)
		require.Len(t, list, 1)
		assert.Equal(t, want, list[0].Group.String(), given)
	}
}
