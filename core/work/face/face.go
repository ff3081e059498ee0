// Package face is an ONVIF device (Profile S, the part that a recorder asks for) in front of a stream that is served on: for recorders that
// take nothing but ONVIF devices, and cameras that are none. It tells what was measured of the stream, and changes nothing: settings are
// read-only.
package face

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/tries"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/onvif"
)

// A Face is one device.
type Face struct {
	ID   string         // a UUID, which makes its endpoint reference (WS-Discovery §2.6)
	Name string         // of the camera
	At   netip.AddrPort // where it answers, as it stands in its addresses
	User string
	// Secret opens the device and its streams with User.
	Secret   signin.Secret
	Version  string // of this program, which is told as its firmware
	Stream   Stream
	Snapshot func(ctx context.Context) ([]byte, error) // a JPEG; nil where there is none
}

// A Stream is what the device has, as it was measured.
type Stream struct {
	URI           string // of RTSP, without a sign-in
	Codec         string // as people write it: "H.264"
	Profile       string
	Width, Height int
	FPS           float64
	Kbps          float64
	GOP           int    // frames between key frames; 0 where that is not known, or where every frame is one
	Sound         string // "G.711 µ-law", "AAC"; "" or "none" for none
}

// Paths of the services.
const (
	devicePath   = "/onvif/device_service"
	mediaPath    = "/onvif/media_service"
	media2Path   = "/onvif/media2_service"
	snapshotPath = "/onvif/snapshot.jpg"
)

// Bounds of a device.
const (
	maxRequest = 64 << 10
	clockSlack = 5 * time.Minute // between the clocks of both sides (WS-Security UsernameToken Profile §3.1)
	mostNonces = 10_000          // that are remembered, so that none is used twice
)

const realm = "Unlatch face"

// Endpoint returns the endpoint reference.
func (f Face) Endpoint() string { return "urn:uuid:" + f.ID }

// Address returns that of the device service.
func (f Face) Address() string { return "http://" + f.At.String() + devicePath }

// A Handler answers for one face. It is made by New.
type Handler struct {
	face  Face
	mux   *http.ServeMux
	nonce string
	wrong *tries.Counter
	now   func() time.Time

	mu   sync.Mutex
	used map[string]time.Time // nonces of username tokens
}

// New prepares a face to answer. wrong counts the wrong sign-ins of all faces of a server.
func New(f Face, wrong *tries.Counter) *Handler {
	h := &Handler{face: f, mux: http.NewServeMux(), nonce: rand.Text(), wrong: wrong, now: time.Now, used: map[string]time.Time{}}
	for path, s := range services {
		h.mux.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) { h.serve(w, r, s) })
	}
	h.mux.HandleFunc("GET "+snapshotPath, h.snapshot)
	return h
}

// ServeHTTP implements http.Handler.
func (h *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) { h.mux.ServeHTTP(w, r) }

// An operation is one request to a service, with its body for reading arguments out of it.
type operation struct {
	name string
	body []byte
}

// arg returns the text of the first element with this local name, or "".
func (o operation) arg(name string) string { return onvif.Argument(o.body, name) }

// args returns the text of every element with this local name.
func (o operation) args(name string) []string { return onvif.Arguments(o.body, name) }

// A fault is what a service answers in place of a result (SOAP 1.2 §5.4; ONVIF Core Specification §5.8.2).
type fault struct{ code, sub, subsub, reason string }

func invalid(subsub, reason string) *fault {
	return &fault{"s:Sender", "ter:InvalidArgVal", subsub, reason}
}

// A service answers the operations of one namespace, each with the XML inside of its response element.
type service struct {
	namespace  string
	operations map[string]func(f *Face, o operation) (string, *fault)
}

// namespaces are those of the services, by path.
var namespaces = map[string]string{devicePath: onvif.NSDevice, mediaPath: onvif.NSMedia, media2Path: onvif.NSMedia2}

// services are those of a face, by path.
var services = map[string]service{
	devicePath: {onvif.NSDevice, deviceOperations},
	mediaPath:  {onvif.NSMedia, mediaOperations},
	media2Path: {onvif.NSMedia2, media2Operations},
}

// open are the operations that need no sign-in (ONVIF Core Specification §5.9.4.3, PRE_AUTH).
var open = map[string]bool{"GetWsdlUrl": true, "GetServices": true, "GetServiceCapabilities": true, "GetCapabilities": true,
	"GetHostname": true, "GetSystemDateAndTime": true, "GetEndpointReference": true}

// Operations returns the names of those that a face answers, by the path of their service.
func Operations() map[string][]string {
	out := map[string][]string{}
	for path, s := range services {
		for name := range s.operations {
			out[path] = append(out[path], name)
		}
	}
	return out
}

// envelope is a request. What else stands in it is passed over.
type envelope struct {
	Header struct {
		Token *usernameToken `xml:"Security>UsernameToken"`
	} `xml:"Header"`
	Body struct {
		Inner []byte `xml:",innerxml"`
	} `xml:"Body"`
}

type usernameToken struct {
	User     string `xml:"Username"`
	Password struct {
		Type string `xml:"Type,attr"`
		Text string `xml:",chardata"`
	} `xml:"Password"`
	Nonce   string `xml:"Nonce"`
	Created string `xml:"Created"`
}

func (h *Handler) serve(w http.ResponseWriter, r *http.Request, s service) {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxRequest))
	if err != nil {
		h.fault(w, s, http.StatusRequestEntityTooLarge, fault{"s:Sender", "ter:WellFormed", "", "The request is too long."})
		return
	}
	var e envelope
	var root struct{ XMLName xml.Name }
	if xml.Unmarshal(raw, &e) != nil || xml.Unmarshal(e.Body.Inner, &root) != nil {
		h.fault(w, s, http.StatusBadRequest, fault{"s:Sender", "ter:WellFormed", "", "This is no well-formed request."})
		return
	}
	o := operation{root.XMLName.Local, e.Body.Inner}
	if !open[o.name] && !h.signedIn(r, e.Header.Token) {
		for _, line := range h.challenges() {
			w.Header().Add("WWW-Authenticate", line)
		}
		h.fault(w, s, http.StatusUnauthorized, fault{"s:Sender", "ter:NotAuthorized", "", "Not authorized"})
		return
	}
	answer := s.operations[o.name]
	if answer == nil {
		h.fault(w, s, http.StatusInternalServerError, fault{"s:Receiver", "ter:ActionNotSupported", "",
			wiretext.Line(o.name, 60) + " is not among the operations of this device."})
		return
	}
	inner, f := answer(&h.face, o)
	if f != nil {
		h.fault(w, s, http.StatusBadRequest, *f)
		return
	}
	h.write(w, s, http.StatusOK, "<x:"+o.name+"Response>"+inner+"</x:"+o.name+"Response>")
}

// signedIn judges a request by its username token, else by HTTP digest. Who has guessed too often is judged no more.
func (h *Handler) signedIn(r *http.Request, token *usernameToken) bool {
	from, _, _ := net.SplitHostPort(r.RemoteAddr)
	given := r.Header.Get("Authorization")
	if token == nil && given == "" || h.wrong.Shut(from) {
		return false
	}
	right := false
	if token != nil {
		right = h.tokenRight(*token)
	} else {
		for _, c := range httpauth.ParseChallenges(h.challenges()) {
			if user, ok := httpauth.Check(given, c, r.Method, h.secret); ok && user != "" {
				right = true
			}
		}
	}
	if !right {
		h.wrong.Wrong(from)
	}
	return right
}

// challenges are what a client chooses from: the stronger first (RFC 7616 §3.7).
func (h *Handler) challenges() (lines []string) {
	for _, algorithm := range []string{"SHA-256", "MD5"} {
		lines = append(lines, fmt.Sprintf(`Digest realm="%s", nonce="%s", algorithm=%s, qop="auth"`, realm, h.nonce, algorithm))
	}
	return lines
}

func (h *Handler) secret(user string) (string, bool) {
	if user != h.face.User || h.face.Secret.Empty() {
		return "", false
	}
	return h.face.Secret.Reveal(), true
}

// tokenRight checks a username token: its digest, that it is of these minutes, and that it was not used before.
func (h *Handler) tokenRight(t usernameToken) bool {
	secret, known := h.secret(t.User)
	nonce, err := base64.StdEncoding.DecodeString(strings.TrimSpace(t.Nonce))
	created := strings.TrimSpace(t.Created)
	at, terr := time.Parse(time.RFC3339, created)
	if !known || err != nil || terr != nil || len(nonce) == 0 || at.Sub(h.now()).Abs() > clockSlack {
		return false
	}
	if onvif.PasswordDigest(nonce, created, secret) != strings.TrimSpace(t.Password.Text) {
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	key := string(nonce) + created
	if _, again := h.used[key]; again {
		return false
	}
	for old, at := range h.used {
		if h.now().Sub(at) > 2*clockSlack {
			delete(h.used, old)
		}
	}
	if len(h.used) >= mostNonces {
		return false // nobody asks so often who means well
	}
	h.used[key] = h.now()
	return true
}

func (h *Handler) fault(w http.ResponseWriter, s service, status int, f fault) {
	sub := "<s:Value>" + f.sub + "</s:Value>"
	if f.subsub != "" {
		sub += "<s:Subcode><s:Value>" + f.subsub + "</s:Value></s:Subcode>"
	}
	h.write(w, s, status, "<s:Fault><s:Code><s:Value>"+f.code+"</s:Value><s:Subcode>"+sub+`</s:Subcode></s:Code><s:Reason>`+
		`<s:Text xml:lang="en">`+onvif.Escape(f.reason)+"</s:Text></s:Reason></s:Fault>")
}

func (h *Handler) write(w http.ResponseWriter, s service, status int, body string) {
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	w.WriteHeader(status)
	io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<s:Envelope xmlns:s="`+onvif.NSSoap+`" xmlns:x="`+s.namespace+
		`" xmlns:t="`+onvif.NSSchema+`" xmlns:ter="`+onvif.NSError+`"><s:Body>`+body+`</s:Body></s:Envelope>`)
}

// snapshot serves the picture, to whoever signs in by HTTP.
func (h *Handler) snapshot(w http.ResponseWriter, r *http.Request) {
	if !h.signedIn(r, nil) {
		for _, line := range h.challenges() {
			w.Header().Add("WWW-Authenticate", line)
		}
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	if h.face.Snapshot == nil {
		http.NotFound(w, r)
		return
	}
	jpeg, err := h.face.Snapshot(r.Context())
	if err != nil || len(jpeg) == 0 {
		http.Error(w, "There is no picture now.", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	w.Header().Set("Cache-Control", "no-store")
	w.Write(jpeg)
}
