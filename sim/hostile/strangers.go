package hostile

import (
	"crypto/ed25519"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/textproto"
	"strings"
	"sync/atomic"
	"time"
)

// certificate makes a certificate that the stranger has signed for itself, another one for each serial number.
func certificate(serial int64) tls.Certificate {
	_, key, _ := ed25519.GenerateKey(nil)
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "stranger"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(nil, template, template, key.Public(), key)
	if err != nil {
		panic(err) // a fixed template and a fresh key: it can always be made
	}
	return tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}
}

// taking answers a request as answer says once a sign-in has come with it, whatever it is, and asks for one before.
func taking(challenge string, answer func(action string) string) func(c *conn, n int) {
	return func(c *conn, _ int) {
		c.each(func(_, _ string, head textproto.MIMEHeader) string {
			kind := head.Get("Content-Type")
			if strings.Contains(kind, "GetSystemDateAndTime") {
				return envelope("<GetSystemDateAndTimeResponse/>")
			}
			if head.Get("Authorization") == "" {
				return wants("HTTP/1.1", "", challenge)
			}
			return answer(kind)
		})
	}
}

const deviceInformation = "<GetDeviceInformationResponse><Manufacturer>Corvane</Manufacturer><Model>V4</Model>" +
	"<SerialNumber>X1</SerialNumber>" +
	"</GetDeviceInformationResponse>"

// BasicOverTLS returns a stranger, for StartTLS, that wants the password itself, and takes any.
func BasicOverTLS() Device {
	return Device{Name: "wants the password itself over TLS", Speaks: DeviceService, serve: taking(basic, func(string) string {
		return envelope(deviceInformation)
	})}
}

// OutOfTLS returns a stranger, for StartTLS, that takes any sign-in and names its media service at a plain address of the same host.
func OutOfTLS(plain string) Device {
	return Device{Name: "names a service outside TLS", Speaks: DeviceService, serve: taking(basic, func(action string) string {
		if strings.Contains(action, "GetServices") {
			return envelope("<GetServicesResponse><Service><Namespace>http://www.onvif.org/ver10/media/wsdl</Namespace><XAddr>http://" + plain +
				"/media</XAddr></Service></GetServicesResponse>")
		}
		return envelope(deviceInformation)
	})}
}

// A Bridge is a stranger that speaks the contract of bridges. It takes whatever it is given and keeps it.
type Bridge struct {
	// SendsOn is where it says that its pictures come from; "" for nowhere.
	SendsOn string
	// Repeats has it say what it was given in fields that are for something else.
	Repeats bool
	// Wants is the scheme in which it wants a sign-in, which it then takes; "" for none.
	Wants string
	// Serial is the serial number that it tells.
	Serial atomic.Value
	// Refuses has it turn down every sign-in, after Thinks.
	Refuses bool
	Thinks  time.Duration
	// Signed counts the requests that came with a sign-in.
	Signed atomic.Int64

	entry atomic.Value // the entry that it was given last, as it came
}

// ServeHTTP implements http.Handler.
func (b *Bridge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	if b.Wants != "" && r.Header.Get("Authorization") == "" {
		w.Header().Set("WWW-Authenticate", b.Wants)
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	if b.Wants != "" {
		b.Signed.Add(1)
	}
	if b.Refuses {
		time.Sleep(b.Thinks)
		w.Header().Set("WWW-Authenticate", b.Wants)
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	serial, _ := b.Serial.Load().(string)
	switch {
	case r.URL.Path == "/v1/target":
		fmt.Fprintf(w, `{"contract":"1","name":"Desk","kind":"software","maker":"Overlea","model":"D1","serial":%q,"abilities":[],`+
			`"intake":{"codecs":["H.264"],"streams":["main","sub"]}}`, serial)
	case r.Method == http.MethodPut && strings.HasPrefix(r.URL.Path, "/v1/slots/"):
		raw, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		b.entry.Store(raw)
		io.WriteString(w, b.slot())
	case strings.HasPrefix(r.URL.Path, "/v1/slots/"):
		io.WriteString(w, b.slot())
	case r.URL.Path == "/v1/slots":
		fmt.Fprintf(w, `{"slots":[%s]}`, b.slot())
	default:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusNotFound)
		io.WriteString(w, `{"type":"about:blank","title":"not here","status":404}`)
	}
}

// slot returns its one slot, with what it was given.
func (b *Bridge) slot() string {
	raw, _ := b.entry.Load().([]byte)
	if raw == nil {
		return `{"id":"1","label":"one","state":"free"}`
	}
	var e map[string]any
	if json.Unmarshal(raw, &e) != nil {
		return `{"id":"1","label":"one","state":"free"}`
	}
	out := map[string]any{"key": e["key"], "name": e["name"], "streams": e["streams"]}
	status := map[string]any{"state": "showing", "says": "running"}
	if b.Repeats {
		out["user"], out["address"] = e["password"], e["password"]
		status["says"] = fmt.Sprintf("signed in as %v with %v", e["user"], e["password"])
	}
	slot := map[string]any{"id": "1", "label": "one", "state": "used", "entry": out, "status": status}
	if b.SendsOn != "" {
		slot["sends_on"] = []map[string]string{{"role": "main", "url": b.SendsOn}}
	}
	text, _ := json.Marshal(slot)
	return string(text)
}

// Given returns what it was handed last, as it came.
func (b *Bridge) Given() string {
	raw, _ := b.entry.Load().([]byte)
	return string(raw)
}
