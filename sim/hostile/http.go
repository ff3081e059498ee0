package hostile

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net/textproto"
	"strings"
	"sync"
	"time"
	"unlatch/core/ground/trouble"
)

const soap = "http://www.w3.org/2003/05/soap-envelope"

// httpOK returns a whole answer.
func httpOK(kind, body string, more ...string) string {
	return fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Type: %s\r\nContent-Length: %d\r\n%s\r\n%s", kind, len(body), strings.Join(more, ""), body)
}

// envelope returns a SOAP answer.
func envelope(body string) string {
	return httpOK("application/soap+xml", `<s:Envelope xmlns:s="`+soap+`"><s:Body>`+body+`</s:Body></s:Envelope>`)
}

// wants returns a refusal with challenges.
func wants(protocol, cseq string, challenges ...string) string {
	head := protocol + " 401 Unauthorized\r\n"
	if cseq != "" {
		head += "CSeq: " + cseq + "\r\n"
	}
	for _, c := range challenges {
		head += "WWW-Authenticate: " + c + "\r\n"
	}
	return head + "Content-Length: 0\r\n\r\n"
}

const (
	basic   = `Basic realm="stranger"`
	digest  = `Digest realm="stranger", nonce="1", qop="auth"`
	renewed = `Digest realm="stranger", nonce="%d", qop="auth", stale=true`
)

// service answers a device service's operations by the name that stands in the request's action; an answer may hold the device's address.
func service(answers map[string]func(at string) string) func(c *conn, n int) {
	return func(c *conn, _ int) {
		c.each(func(_, _ string, head textproto.MIMEHeader) string {
			for name, answer := range answers {
				if strings.Contains(head.Get("Content-Type"), name) {
					return answer(c.LocalAddr().String())
				}
			}
			return envelope("<GetSystemDateAndTimeResponse/>")
		})
	}
}

// always answers every request with the same.
func always(text string) func(c *conn, n int) {
	return func(c *conn, _ int) {
		c.each(func(string, string, textproto.MIMEHeader) string { return text })
	}
}

// then answers the first request and does something else from there.
func then(do func(c *conn)) func(c *conn, n int) {
	return func(c *conn, _ int) {
		if _, _, _, ok := c.request(); ok {
			do(c)
		}
	}
}

// bomb is 200 MB of zeros, packed.
var bomb = sync.OnceValue(func() string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	zeros := make([]byte, 1<<20)
	for range 200 {
		z.Write(zeros)
	}
	z.Close()
	return b.String()
})

// said returns an answer that holds no address.
func said(text string) func(string) string { return func(string) string { return text } }

// services names a device's media service.
func services(at string) string {
	return envelope("<GetServicesResponse><Service><Namespace>http://www.onvif.org/ver10/media/wsdl</Namespace><XAddr>http://" + at +
		"/onvif/media</XAddr></Service></GetServicesResponse>")
}

const profile = `<Profiles token="p%d"><VideoSourceConfiguration><SourceToken>v</SourceToken></VideoSourceConfiguration>` +
	`<VideoEncoderConfiguration><Encoding>H264</Encoding><Resolution><Width>640</Width><Height>360</Height></Resolution>` +
	`</VideoEncoderConfiguration></Profiles>`

func profiles(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, profile, i)
	}
	return envelope("<GetProfilesResponse>" + b.String() + "</GetProfilesResponse>")
}

// BasicTrap returns a stranger that looks like a device service and wants the password itself.
func BasicTrap() Device {
	return Device{"tells the time and wants the password itself for the rest", DeviceService, trouble.Readable, func(c *conn, _ int) {
		c.each(func(_, _ string, head textproto.MIMEHeader) string {
			if strings.Contains(head.Get("Content-Type"), "GetSystemDateAndTime") {
				return envelope("<GetSystemDateAndTimeResponse/>")
			}
			return wants("HTTP/1.1", "", basic)
		})
	}}
}

// HashTrap returns a stranger that looks like a device service and collects digests.
func HashTrap() Device {
	return Device{"tells the time and collects digests for the rest", DeviceService, trouble.WrongSignIn, func(c *conn, _ int) {
		c.each(func(_, _ string, head textproto.MIMEHeader) string {
			if strings.Contains(head.Get("Content-Type"), "GetSystemDateAndTime") {
				return envelope("<GetSystemDateAndTimeResponse/>")
			}
			return wants("HTTP/1.1", "", digest)
		})
	}}
}

// Slow returns a device service with many channels that takes its time for each answer, and lets anybody in.
func Slow(channels int, each time.Duration) Device {
	var list strings.Builder
	for i := range channels {
		list.WriteString(strings.ReplaceAll(fmt.Sprintf(profile, i), "<SourceToken>v", fmt.Sprintf("<SourceToken>v%d", i)))
	}
	return Device{"takes its time for each answer", DeviceService, trouble.TooSlow, func(c *conn, _ int) {
		at := c.LocalAddr().String()
		c.each(func(_, _ string, head textproto.MIMEHeader) string {
			asked := head.Get("Content-Type")
			switch {
			case strings.Contains(asked, "GetSystemDateAndTime"):
				return envelope("<GetSystemDateAndTimeResponse/>")
			case strings.Contains(asked, "GetServices"):
				return services(at)
			case strings.Contains(asked, "GetProfiles"):
				return envelope("<GetProfilesResponse>" + list.String() + "</GetProfilesResponse>")
			case strings.Contains(asked, "GetStreamUri"):
				select {
				case <-c.stop:
				case <-time.After(each):
				}
				return envelope("<GetStreamUriResponse><MediaUri><Uri>rtsp://" + at + "/x</Uri></MediaUri></GetStreamUriResponse>")
			case strings.Contains(asked, "GetDeviceInformation") && head.Get("Authorization") == "":
				return wants("HTTP/1.1", "", digest)
			}
			return envelope("<GetDeviceInformationResponse><Model>Slow</Model></GetDeviceInformationResponse>")
		})
	}}
}

func deviceServices() []Device {
	packed := httpOK("application/soap+xml", bomb(), "Content-Encoding: gzip\r\n")
	info := func(text string) map[string]func(string) string {
		return map[string]func(string) string{"GetDeviceInformation": said(envelope("<GetDeviceInformationResponse>" + text +
			"</GetDeviceInformationResponse>")), "GetServices": services, "GetProfiles": said(profiles(1)),
			"GetStreamUri": said(envelope("<GetStreamUriResponse><MediaUri>" +
				"<Uri>rtsp://0.0.0.0/av?user=fitter&amp;password=Lamp-Room-Key&amp;channel=1</Uri></MediaUri></GetStreamUriResponse>"))}
	}
	return []Device{
		BasicTrap(), HashTrap(),
		{"drips its answer", DeviceService, trouble.TooSlow, then(func(c *conn) { c.drip("HTTP/1.1 200 OK\r\nX: y\r\n") })},
		{"drips its body", DeviceService, trouble.TooSlow,
			then(func(c *conn) { c.say("HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n"); c.drip("<a>") })},
		{"says nothing", DeviceService, trouble.Silent, func(c *conn, _ int) { c.hold() }},
		{"hangs up on every request", DeviceService, trouble.Dropped, then(func(*conn) {})},
		{"sends a header line without end", DeviceService, trouble.Unbounded,
			then(func(c *conn) { c.say("HTTP/1.1 200 OK\r\nX: "); c.forever("y") })},
		{"sends header lines without end", DeviceService, trouble.Unbounded,
			then(func(c *conn) { c.say("HTTP/1.1 200 OK\r\n"); c.forever("X-More: yes\r\n") })},
		{"sends a body without end", DeviceService, trouble.Unbounded,
			then(func(c *conn) { c.say("HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n<"); c.forever("aaaaaaaa") })},
		{"sends a bomb of zeros, packed", DeviceService, trouble.NotONVIF, always(packed)},
		{"nests its XML deep", DeviceService, trouble.Unbounded, always(httpOK("application/soap+xml", strings.Repeat("<a>", 100_000)))},
		{"expands its XML", DeviceService, trouble.NotONVIF, always(httpOK("application/soap+xml",
			`<!DOCTYPE e [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><Envelope><Body>&b;</Body></Envelope>`))},
		{"sends garbage", DeviceService, trouble.NotHTTP, then(func(c *conn) { c.say("\x00\x01\x02\xff garbage\r\n\r\n") })},
		{"speaks RTSP on its web port", DeviceService, trouble.NotHTTP, always("RTSP/1.0 400 Bad Request\r\n\r\n")},
		{"redirects to itself for ever", DeviceService, trouble.NotONVIF,
			always("HTTP/1.1 302 Found\r\nLocation: /onvif/device_service\r\nContent-Length: 0\r\n\r\n")},
		{"redirects to somebody else", DeviceService, trouble.NotONVIF,
			always("HTTP/1.1 307 Moved\r\nLocation: http://127.99.9.9/onvif/device_service\r\nContent-Length: 0\r\n\r\n")},
		{"wants the password itself", DeviceService, trouble.Readable, always(wants("HTTP/1.1", "", basic))},
		{"wants the password itself once it has the digest", DeviceService, trouble.WrongSignIn, func(c *conn, _ int) {
			c.each(func(_, _ string, head textproto.MIMEHeader) string {
				if head.Get("Authorization") == "" {
					return wants("HTTP/1.1", "", digest)
				}
				return wants("HTTP/1.1", "", basic)
			})
		}},
		{"offers a scheme of its own", DeviceService, trouble.SchemeUnknown, always(wants("HTTP/1.1", "", "Stranger x=y"))},
		{"names a nonce of 7.9 kB", DeviceService, trouble.Unbounded, always(wants("HTTP/1.1", "",
			`Digest realm="r", nonce="`+strings.Repeat("n", 7900)+`"`))},
		{"calls every nonce stale", DeviceService, trouble.WrongSignIn, func(c *conn, _ int) {
			i := 0
			c.each(func(string, string, textproto.MIMEHeader) string {
				i++
				return wants("HTTP/1.1", "", fmt.Sprintf(renewed, i))
			})
		}},
		{"has 11,000 media profiles", DeviceService, trouble.Unbounded, service(map[string]func(string) string{"GetServices": services,
			"GetProfiles": said(profiles(11_000)), "GetDeviceInformation": said(envelope("<GetDeviceInformationResponse/>"))})},
		{"has NUL bytes, escapes and turned letters in its names", DeviceService, "", service(info("<Manufacturer>Nul&#x1;\x00</Manufacturer>"))},
		{"names a password in its stream's URL", DeviceService, "",
			service(info("<Manufacturer>Gone \u202e</Manufacturer><Model>&#x9b;2J</Model>"))},
	}
}

func webs() []Device {
	const part = "--cut\r\nContent-Type: image/jpeg\r\n\r\n"
	return []Device{
		{"has a snapshot of 10 GB", Web, trouble.NotPicture, then(func(c *conn) {
			c.say("HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\nContent-Length: 10737418240\r\n\r\n")
			c.forever("\xff\xd8")
		})},
		{"has a snapshot that is a page", Web, trouble.NotPicture, always(httpOK("text/html", "<h1>no picture</h1>"))},
		{"has motion JPEG whose part never ends", Web, trouble.NotPicture, then(func(c *conn) {
			c.say("HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=cut\r\n\r\n" + part)
			c.forever("\xff\xd8")
		})},
		{"has motion JPEG of nothing", Web, trouble.NotPicture, then(func(c *conn) {
			c.say("HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=cut\r\n\r\n")
			c.forever(part)
		})},
		{"turns its motion JPEG into a page", Web, trouble.NotPicture, then(func(c *conn) {
			c.say("HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=cut\r\n\r\n")
			c.forever("--cut\r\nContent-Type: text/html\r\n\r\n<!DOCTYPE html><html><body>Sign in</body></html>")
		})},
		{"has motion JPEG of 100 MB a picture", Web, trouble.NotPicture, then(func(c *conn) {
			c.say("HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=cut\r\n\r\n" + part)
			c.say("\xff\xd8\xff\xda\x00\x02")
			c.forever("coded data ")
		})},
		{"ends its motion JPEG at once", Web, trouble.NotPicture, then(func(c *conn) {
			c.say("HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=cut\r\n\r\n" + part + "\xff\xd8\xff")
		})},
		{"drips its page", Web, trouble.TooSlow, then(func(c *conn) { c.drip("HTTP/1.1 200 OK\r\nX: y\r\n") })},
		{"wants the password itself for its page", Web, trouble.Readable, always(wants("HTTP/1.1", "", basic))},
		{"redirects its page for ever", Web, trouble.RedirectLost,
			always("HTTP/1.1 302 Found\r\nLocation: /again\r\nContent-Length: 0\r\n\r\n")},
		{"redirects its page out of the site", Web, trouble.OutOfScope,
			always("HTTP/1.1 302 Found\r\nLocation: http://127.99.9.9/\r\nContent-Length: 0\r\n\r\n")},
		{"calls every nonce of its page stale", Web, trouble.WrongSignIn, func(c *conn,
			n int) {
			always(wants("HTTP/1.1", "", fmt.Sprintf(renewed, n)))(c, n)
		}},
	}
}
