// Package onvif is a client for the ONVIF services that the job needs: device, media, media2, receiver and
// recording, over SOAP 1.2. It reads the device's clock before it signs in, matches elements by local name because
// prefixes vary at will, and bounds every answer.
package onvif

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"unlatch/core/ground/wiretext"
)

// Namespaces of the services and of WS-Addressing (ONVIF Core Specification §5.3).
const (
	NSSoap      = "http://www.w3.org/2003/05/soap-envelope"
	NSDevice    = "http://www.onvif.org/ver10/device/wsdl"
	NSMedia     = "http://www.onvif.org/ver10/media/wsdl"
	NSMedia2    = "http://www.onvif.org/ver20/media/wsdl"
	NSReceiver  = "http://www.onvif.org/ver10/receiver/wsdl"
	NSRecording = "http://www.onvif.org/ver10/recording/wsdl"
	NSReplay    = "http://www.onvif.org/ver10/replay/wsdl"
	NSSearch    = "http://www.onvif.org/ver10/search/wsdl"
	NSSchema    = "http://www.onvif.org/ver10/schema"
	NSError     = "http://www.onvif.org/ver10/error"
)

// Limits on an answer.
const (
	maxAnswer = 2 << 20
	// maxElements is of one answer: a recorder with 256 channels names its recordings in about 8,000. What of them is kept each list says.
	maxElements = 100_000
	maxDepth    = 64
)

// A Fault is a SOAP 1.2 fault (SOAP 1.2 Part 1 §5.4) with the subcodes that ONVIF nests (Core Specification §5.8.2).
type Fault struct {
	Codes  []string // local names from outer to inner: "Sender", "NotAuthorized"
	Reason string
}

func (f *Fault) Error() string {
	return fmt.Sprintf("SOAP fault %s: %s", strings.Join(f.Codes, "/"), f.Reason)
}

// HasCode reports whether one of the fault's codes has this local name.
func (f *Fault) HasCode(code string) bool {
	for _, c := range f.Codes {
		if strings.EqualFold(c, code) {
			return true
		}
	}
	return false
}

// A NotSOAPError is an answer that is no SOAP envelope: a web page, an error page, nothing.
type NotSOAPError struct {
	Status      int
	ContentType string
	Problem     string
}

func (e *NotSOAPError) Error() string { return "no device service: " + e.Problem }

// A RefusedError means that the device wants a sign-in and does not take the one it was given.
type RefusedError struct {
	NoSignIn bool   // there was none to give
	Scheme   string // the way it was sent: "WS-UsernameToken", "digest MD5", ...
}

func (e *RefusedError) Error() string {
	if e.NoSignIn {
		return "the device service wants a sign-in and none was given"
	}
	return "the device service refuses the sign-in (" + e.Scheme + ")"
}

// A LimitError is an answer larger or deeper than any honest device sends.
type LimitError struct{ What string }

func (e *LimitError) Error() string { return "the answer is not bounded: " + e.What }

// ParseEnvelope returns the XML inside the SOAP body of b. A fault in it is returned as *Fault.
func ParseEnvelope(b []byte) ([]byte, error) {
	if err := checkDepth(b); err != nil {
		return nil, err
	}
	var env struct {
		XMLName xml.Name
		Body    *struct {
			Inner []byte `xml:",innerxml"`
			Fault *struct {
				Code    code `xml:"Code"`
				Reasons []struct {
					Text string `xml:",chardata"`
				} `xml:"Reason>Text"`
				Detail string `xml:"Detail>Text"`
				// SOAP 1.1, which some devices still answer with.
				FaultCode   string `xml:"faultcode"`
				FaultString string `xml:"faultstring"`
			} `xml:"Fault"`
		} `xml:"Body"`
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	if err := d.Decode(&env); err != nil {
		return nil, &NotSOAPError{Problem: "the answer is not well-formed XML"}
	}
	if env.XMLName.Local != "Envelope" || env.Body == nil {
		return nil, &NotSOAPError{Problem: "the answer is XML without a SOAP body"}
	}
	if f := env.Body.Fault; f != nil {
		out := &Fault{Codes: f.Code.flatten(), Reason: clip(f.Detail)}
		if f.FaultCode != "" {
			out.Codes, out.Reason = []string{local(f.FaultCode)}, clip(f.FaultString)
		}
		for _, r := range f.Reasons {
			if r.Text != "" {
				out.Reason = clip(r.Text)
			}
		}
		return nil, out
	}
	return env.Body.Inner, nil
}

type code struct {
	Value string `xml:"Value"`
	Sub   *code  `xml:"Subcode"`
}

func (c *code) flatten() (out []string) {
	for ; c != nil; c = c.Sub {
		out = append(out, local(c.Value))
	}
	return out
}

func local(qname string) string {
	qname = strings.TrimSpace(qname)
	return clip(qname[strings.LastIndex(qname, ":")+1:])
}

// clip makes one harmless line of what a device says.
func clip(s string) string { return wiretext.Line(s, 300) }

// checkDepth refuses deep nesting before the decoder follows it.
func checkDepth(b []byte) error {
	d := xml.NewDecoder(bytes.NewReader(b))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	depth, elements := 0, 0
	for {
		t, err := d.RawToken()
		if err != nil {
			return nil // whether it is well formed is found on decoding
		}
		switch t.(type) {
		case xml.StartElement:
			if elements++; elements > maxElements {
				return &LimitError{What: fmt.Sprintf("over %d XML elements", maxElements)}
			}
			if depth++; depth > maxDepth {
				return &LimitError{What: fmt.Sprintf("XML nested deeper than %d", maxDepth)}
			}
		case xml.EndElement:
			depth--
		}
	}
}

// post sends one envelope and returns the answer with its body read within bounds.
func (c *Client) post(ctx context.Context, address, action, envelope string) (*http.Response, []byte, error) {
	res, body, err := c.postTo(ctx, c.secured(address), action, envelope, "")
	if err != nil || !c.sentToTLS(res) {
		return res, body, err
	}
	return c.postTo(ctx, c.secured(address), action, envelope, "")
}

// sentToTLS reports whether an answer sends us from plain HTTP to TLS on the same host, and remembers it for all that follows. Any other
// redirect is not followed.
func (c *Client) sentToTLS(res *http.Response) bool {
	switch res.StatusCode {
	case http.StatusMovedPermanently, http.StatusFound, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
	default:
		return false
	}
	from := res.Request.URL
	to, err := from.Parse(res.Header.Get("Location"))
	if err != nil || from.Scheme != "http" || to.Scheme != "https" || to.Hostname() != from.Hostname() || len(c.moved) > 8 {
		return false
	}
	c.moved["http://"+from.Host] = "https://" + to.Host
	c.log.Note("the device sends plain requests to https://%s; following", clip(to.Host))
	return true
}

// secured returns an address as the device wants it asked: over TLS where it has sent us there.
func (c *Client) secured(address string) string {
	for plain, private := range c.moved {
		if rest, ok := strings.CutPrefix(address, plain); ok && (rest == "" || rest[0] == '/') {
			return private + rest
		}
	}
	return address
}

// postTo sends one request to where it is.
func (c *Client) postTo(ctx context.Context, address, action, envelope, authorization string) (*http.Response, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(envelope))
	if err != nil {
		return nil, nil, err
	}
	req.Header.Set("Content-Type", `application/soap+xml; charset=utf-8; action="`+action+`"`)
	req.Header.Set("User-Agent", "Unlatch")
	if authorization != "" {
		req.Header.Set("Authorization", authorization)
	}
	c.log.Sent(fmt.Sprintf("POST %s\nContent-Type: %s\n%s%s", address, req.Header.Get("Content-Type"), authLine(authorization), envelope))
	since := c.traffic.Mark()
	res, err := c.clientFor(action).Do(req)
	if err != nil {
		err = since.Explain(err, "its answer")
		c.log.Note("%v", err)
		if strings.Contains(err.Error(), "headers exceeded") {
			err = &LimitError{What: "header lines without end"}
		}
		return nil, nil, err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		err = since.Explain(err, "its answer")
		c.log.Note("%d bytes of the answer came: %v", len(body), err)
		return nil, nil, fmt.Errorf("reading the answer: %w", err)
	}
	var head strings.Builder
	res.Header.Write(&head)
	c.log.Got(res.Proto + " " + res.Status + "\n" + head.String() + "\n" + string(body))
	if len(body) > maxAnswer {
		return nil, nil, &LimitError{What: fmt.Sprintf("a body over %d MB", maxAnswer>>20)}
	}
	return res, body, nil
}

func authLine(authorization string) string {
	if authorization == "" {
		return ""
	}
	return "Authorization: " + authorization + "\n"
}

// read takes the answer's body apart. HTTP errors that carry a fault are the fault; others say what they are.
func read(res *http.Response, body []byte, out any) error {
	inner, err := ParseEnvelope(body)
	var not *NotSOAPError
	if errors.As(err, &not) {
		not.Status, not.ContentType = res.StatusCode, res.Header.Get("Content-Type")
		switch {
		case res.StatusCode >= 300:
			not.Problem = fmt.Sprintf("it answers %d %s", res.StatusCode, http.StatusText(res.StatusCode))
		case strings.Contains(not.ContentType, "html"):
			not.Problem = "it answers with a web page"
		}
		return not
	}
	if err != nil {
		return err
	}
	if res.StatusCode >= 300 {
		return &NotSOAPError{Status: res.StatusCode, Problem: fmt.Sprintf("it answers %d %s", res.StatusCode,
			http.StatusText(res.StatusCode))}
	}
	if out == nil {
		return nil
	}
	if err := xml.Unmarshal(inner, out); err != nil {
		return &NotSOAPError{Status: res.StatusCode, Problem: "the SOAP body cannot be read: " + clip(err.Error())}
	}
	return nil
}
