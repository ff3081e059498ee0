package sim

import (
	"cmp"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"unlatch/core/ground/httpauth"
	"unlatch/core/wire/onvif"
	"unlatch/sim/scene"
)

// operation is one request to a service, with its body for reading arguments out.
type operation struct {
	name string
	body []byte
}

// arg returns the text of the first element with this local name, or "".
func (o operation) arg(name string) string { return onvif.Argument(o.body, name) }

// args returns the text of every element with this local name.
func (o operation) args(name string) []string { return onvif.Arguments(o.body, name) }

// A fault is what a service answers instead of a result.
type fault struct{ code, sub, subsub, reason string }

// A service answers the operations of one namespace with the XML inside the response element.
type service struct {
	namespace string
	answer    func(o operation) (string, *fault)
}

// openOperations need no sign-in (ONVIF Core Specification §5.9.4.3, PRE_AUTH).
var openOperations = map[string]bool{
	"GetSystemDateAndTime": true, "GetServices": true, "GetCapabilities": true, "GetServiceCapabilities": true,
	"GetEndpointReference": true, "GetHostname": true, "GetWsdlUrl": true,
}

// soapHandler serves one device's services under their paths.
func (d *device) soapHandler() http.Handler {
	mux := http.NewServeMux()
	for path, s := range d.services {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) { d.serveSOAP(w, r, s) })
	}
	mux.HandleFunc("/description.xml", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprintf(w,
			`<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device><deviceType>%s</deviceType>`+
				`<friendlyName>%s</friendlyName><manufacturer>%s</manufacturer><modelName>%s</modelName><serialNumber>%s</serialNumber>`+
				`</device></root>`,
			d.upnpType(), onvif.Escape(d.maker.name+" "+d.Model), d.maker.name, onvif.Escape(d.Model), onvif.Escape(d.Serial))
	})
	d.servePictures(mux)
	d.serveSetup(mux)
	if d.Defects.Transport == "tunnel" {
		d.secure = newStreamServer(d)
		for _, f := range d.sending() {
			mux.Handle(strings.Split(d.path(f), "?")[0], d.secure)
		}
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Server", d.maker.server)
		if r.URL.Path != "/" {
			w.WriteHeader(http.StatusNotFound)
		}
		fmt.Fprintf(w, "<!doctype html><title>%s %s</title><h1>%s %s</h1><p>%s</p>", d.maker.name, d.Model, d.maker.name, d.Model, d.Name)
	})
	return mux
}

func (d *device) serveSOAP(w http.ResponseWriter, r *http.Request, s service) {
	d.asked.Add(1)
	w.Header().Set("Server", d.maker.server)
	if d.setup.of("Service") == "Off" {
		http.Error(w, "The gate is shut", http.StatusNotFound)
		return
	}
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 256<<10))
	if err != nil {
		return
	}
	var env struct {
		Header struct {
			Token *usernameToken `xml:"Security>UsernameToken"`
		} `xml:"Header"`
		Body struct {
			Inner []byte `xml:",innerxml"`
		} `xml:"Body"`
	}
	if err := xml.Unmarshal(raw, &env); err != nil {
		d.writeFault(w, s, http.StatusBadRequest, fault{"S:Sender", "ter:WellFormed", "", "Not well-formed"})
		return
	}
	var root struct{ XMLName xml.Name }
	if err := xml.Unmarshal(env.Body.Inner, &root); err != nil {
		d.writeFault(w, s, http.StatusBadRequest, fault{"S:Sender", "ter:WellFormed", "", "Empty body"})
		return
	}
	o := operation{name: root.XMLName.Local, body: env.Body.Inner}
	if !openOperations[o.name] && !d.signedIn(w, r, env.Header.Token, s) {
		return
	}
	if changesStreams(s, o) {
		d.setting.Lock()
		defer d.setting.Unlock()
	}
	inner, f := s.answer(o)
	if f != nil {
		d.writeFault(w, s, http.StatusInternalServerError, *f)
		return
	}
	d.writeSOAP(w, s, http.StatusOK, "<X:"+o.name+"Response>"+inner+"</X:"+o.name+"Response>")
}

func changesStreams(s service, o operation) bool {
	return (s.namespace == onvif.NSMedia || s.namespace == onvif.NSMedia2) && !strings.HasPrefix(o.name, "Get")
}

type usernameToken struct {
	User    string `xml:"Username"`
	Digest  string `xml:"Password"`
	Nonce   string `xml:"Nonce"`
	Created string `xml:"Created"`
}

// signedIn checks the sign-in in the maker's way and answers the refusal itself.
func (d *device) signedIn(w http.ResponseWriter, r *http.Request, token *usernameToken, s service) bool {
	refuse := func() bool {
		d.writeFault(w, s, http.StatusUnauthorized, fault{"S:Sender", "ter:NotAuthorized", "", "Sender not authorized"})
		return false
	}
	if len(d.accounts()) == 0 {
		return true // fresh from the factory: anyone may come in, and make the first account
	}
	given := r.Header.Get("Authorization")
	if given != "" || token != nil {
		if a, locked := d.locked(); locked && a.drop {
			panic(http.ErrAbortHandler)
		} else if locked {
			if a.retry != "" {
				w.Header().Set("Retry-After", a.retry)
			}
			d.writeFault(w, s, a.status, fault{"S:Sender", "ter:NotAuthorized", "", a.reason})
			return false
		}
	}
	if len(d.maker.httpAuth) == 0 {
		if token == nil {
			return refuse()
		}
		right := d.tokenRight(*token)
		if d.judged(right); !right {
			return refuse()
		}
		return true
	}
	return d.httpSigned(w, r, d.maker.httpAuth) || refuse()
}

// httpSigned judges the Authorization line of a request, and puts the challenges into the answer where it is missing or wrong.
func (d *device) httpSigned(w http.ResponseWriter, r *http.Request, schemes []string) bool {
	lines := challenges(schemes, d.maker.name, d.nonce)
	if given := r.Header.Get("Authorization"); given != "" {
		for _, c := range httpauth.ParseChallenges(lines) {
			if _, ok := httpauth.Check(given, c, r.Method, d.secret); ok {
				d.judged(true)
				return true
			}
		}
		d.judged(false)
	}
	for _, line := range lines {
		w.Header().Add("WWW-Authenticate", line)
	}
	return false
}

// tokenRight checks a WS-UsernameToken: the digest, and that it is within five minutes of the device's own clock.
func (d *device) tokenRight(t usernameToken) bool {
	secret, known := d.secret(t.User)
	nonce, err := base64.StdEncoding.DecodeString(strings.TrimSpace(t.Nonce))
	created, terr := time.Parse(time.RFC3339, strings.TrimSpace(t.Created))
	if !known || err != nil || terr != nil || created.Sub(d.clock()).Abs() > 5*time.Minute {
		return false
	}
	return onvif.PasswordDigest(nonce, strings.TrimSpace(t.Created), secret) == strings.TrimSpace(t.Digest)
}

func (d *device) clock() time.Time {
	offset := d.Defects.ClockOffset
	d.world.mu.Lock()
	if d.net.Clock != nil {
		offset = *d.net.Clock
	}
	d.world.mu.Unlock()
	return time.Now().UTC().Add(time.Duration(offset) * time.Second)
}

func (d *device) writeFault(w http.ResponseWriter, s service, status int, f fault) {
	sub := "<S:Subcode><S:Value>" + f.sub + "</S:Value></S:Subcode>"
	if f.subsub != "" {
		sub = "<S:Subcode><S:Value>" + f.sub + "</S:Value><S:Subcode><S:Value>" + f.subsub + "</S:Value></S:Subcode></S:Subcode>"
	}
	d.writeSOAP(w, s, status,
		"<S:Fault><S:Code><S:Value>"+f.code+"</S:Value>"+sub+`</S:Code><S:Reason><S:Text xml:lang="en">`+f.reason+"</S:Text></S:Reason>"+
			"</S:Fault>")
}

func (d *device) writeSOAP(w http.ResponseWriter, s service, status int, body string) {
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	w.WriteHeader(status)
	io.WriteString(w,
		d.maker.dialect(`<?xml version="1.0" encoding="UTF-8"?><S:Envelope xmlns:S="`+onvif.NSSoap+`" xmlns:D="`+onvif.NSDevice+
			`" xmlns:X="`+s.namespace+`" xmlns:T="`+onvif.NSSchema+`" xmlns:ter="`+onvif.NSError+`"><S:Body>`+body+`</S:Body></S:Envelope>`))
}

func unsupported(o operation) (string, *fault) {
	return "", &fault{"S:Receiver", "ter:ActionNotSupported", "", "The requested action is not supported: " + onvif.Escape(o.name)}
}

func invalid(sub, reason string) *fault { return &fault{"S:Sender", "ter:InvalidArgVal", sub, reason} }

// deviceService answers the device management that every stand-in has.
func (d *device) deviceService(o operation) (string, *fault) {
	switch o.name {
	case "GetSystemDateAndTime":
		t := d.clock()
		d.world.mu.Lock()
		zone := d.net.Zone
		d.world.mu.Unlock()
		if zone != "" {
			zone = "<T:TimeZone><T:TZ>" + onvif.Escape(zone) + "</T:TZ></T:TimeZone>"
		}
		return fmt.Sprintf("<X:SystemDateAndTime><T:DateTimeType>Manual</T:DateTimeType>"+
			"<T:DaylightSavings>false</T:DaylightSavings>"+zone+"<T:UTCDateTime>"+
			"<T:Time><T:Hour>%d</T:Hour><T:Minute>%d</T:Minute><T:Second>%d</T:Second></T:Time><T:Date><T:Year>%d</T:Year>"+
			"<T:Month>%d</T:Month><T:Day>%d</T:Day></T:Date>"+
			"</T:UTCDateTime></X:SystemDateAndTime>", t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(), t.Day()), nil
	case "GetServices":
		var b strings.Builder
		for path, s := range d.services {
			fmt.Fprintf(&b,
				"<X:Service><X:Namespace>%s</X:Namespace><X:XAddr>%s%s</X:XAddr><X:Version><T:Major>2</T:Major><T:Minor>6</T:Minor></X:Version>"+
					"</X:Service>", s.namespace, d.base(), path)
		}
		return b.String(), nil
	case "GetDeviceInformation":
		return fmt.Sprintf("<X:Manufacturer>%s</X:Manufacturer><X:Model>%s</X:Model><X:FirmwareVersion>%s</X:FirmwareVersion>"+
			"<X:SerialNumber>%s</X:SerialNumber><X:HardwareId>%s</X:HardwareId>",
			d.maker.name, onvif.Escape(d.Model), onvif.Escape(d.Firmware), onvif.Escape(d.Serial), onvif.Escape(d.Model)), nil
	case "GetEndpointReference":
		return "<X:GUID>" + strings.TrimPrefix(d.endpoint, "urn:uuid:") + "</X:GUID>", nil
	case "GetNetworkProtocols":
		https := ""
		if d.TLS != "" {
			https = fmt.Sprintf("<X:NetworkProtocols><T:Name>HTTPS</T:Name><T:Enabled>true</T:Enabled><T:Port>%d</T:Port>"+
				"</X:NetworkProtocols>", webTLS)
		}
		return https +
			fmt.Sprintf("<X:NetworkProtocols><T:Name>HTTP</T:Name><T:Enabled>%t</T:Enabled><T:Port>%d</T:Port></X:NetworkProtocols>"+
				"<X:NetworkProtocols><T:Name>RTSP</T:Name><T:Enabled>%t</T:Enabled><T:Port>%d</T:Port></X:NetworkProtocols>",
				d.Defects.HTTPS != "only", d.webPort, d.streaming(), d.rtspPort), nil
	}
	return d.networkOperation(o)
}

// mediaService answers the Media service of ver10.
func (d *device) mediaService(o operation) (string, *fault) {
	switch o.name {
	case "GetProfiles":
		var b strings.Builder
		for i, st := range d.configured() {
			if !st.there() {
				continue
			}
			fmt.Fprintf(&b, `<X:Profiles token="prof_%d" fixed="%t"><T:Name>%s</T:Name><T:VideoSourceConfiguration token="vsc">`+
				`<T:SourceToken>src_%d</T:SourceToken>`+
				`</T:VideoSourceConfiguration><T:VideoEncoderConfiguration token="enc_%d">%s</T:VideoEncoderConfiguration>%s</X:Profiles>`,
				i, !st.Spare, d.profileName(st), st.channel, i, encoderConfiguration(st), audioConfiguration(i, st, "AudioEncoderConfiguration"))
		}
		return b.String(), nil
	case "GetStreamUri":
		uri, f := d.streamURI(o)
		return "<X:MediaUri><T:Uri>" + uri +
			"</T:Uri><T:InvalidAfterConnect>false</T:InvalidAfterConnect><T:InvalidAfterReboot>false</T:InvalidAfterReboot>" +
			"<T:Timeout>PT0S</T:Timeout></X:MediaUri>", f
	case "GetSnapshotUri":
		uri, f := d.snapshotURI(o)
		return "<X:MediaUri><T:Uri>" + uri + "</T:Uri></X:MediaUri>", f
	case "GetVideoEncoderConfigurations":
		var b strings.Builder
		for i, st := range d.configured() {
			fmt.Fprintf(&b, `<X:Configurations token="enc_%d">%s</X:Configurations>`, i, encoderConfiguration(st))
		}
		return b.String(), nil
	case "GetGuaranteedNumberOfVideoEncoderInstances":
		return fmt.Sprintf("<X:TotalNumber>%d</X:TotalNumber>", len(d.sending())), nil
	case "CreateProfile":
		i, f := d.makeProfile(o.arg("Name"), -1)
		return fmt.Sprintf(`<X:Profile token="prof_%d" fixed="false"><T:Name>%s</T:Name></X:Profile>`, i, onvif.Escape(o.arg("Name"))), f
	case "AddVideoSourceConfiguration", "AddVideoEncoderConfiguration":
		return "", nil // the profile has its encoder from the beginning
	case "GetAudioEncoderConfigurationOptions":
		return "<X:Options><T:Options><T:Encoding>G711</T:Encoding></T:Options><T:Options><T:Encoding>AAC</T:Encoding></T:Options>" +
			"</X:Options>", nil
	case "RemoveAudioEncoderConfiguration", "AddAudioEncoderConfiguration":
		return d.setSound(o.arg("ProfileToken"), "prof_%d", map[string]string{"AddAudioEncoderConfiguration": "true"}[o.name])
	}
	return d.anyMedia(o, false)
}

// anyMedia answers what the two Media services have in common.
func (d *device) anyMedia(o operation, media2 bool) (string, *fault) {
	switch o.name {
	case "GetVideoEncoderConfigurationOptions":
		return d.encoderOptions(media2), nil
	case "SetVideoEncoderConfiguration":
		return d.setEncoder(o)
	case "SetAudioEncoderConfiguration":
		return d.setAudioEncoder(o)
	case "StartMulticastStreaming", "StopMulticastStreaming":
		return d.cast(o.arg("ProfileToken"), o.name == "StartMulticastStreaming")
	case "DeleteProfile":
		return d.deleteProfile(cmp.Or(o.arg("ProfileToken"), o.arg("Token")))
	}
	return d.overlayOperation(o)
}

func (d *device) profileName(st feed) string {
	if st.profile != "" {
		return onvif.Escape(st.profile)
	}
	return tierName(st.tier)
}

// encoderConfiguration returns an encoder's setting in the form of ver10.
func encoderConfiguration(st feed) string {
	return fmt.Sprintf(`<T:Name>enc</T:Name><T:Encoding>%s</T:Encoding><T:Resolution><T:Width>%d</T:Width><T:Height>%d</T:Height>`+
		`</T:Resolution>`+
		`<T:RateControl><T:FrameRateLimit>%d</T:FrameRateLimit><T:EncodingInterval>1</T:EncodingInterval>`+
		`<T:BitrateLimit>%d</T:BitrateLimit></T:RateControl>%s%s`,
		encodings[st.Codec], st.Width, st.Height, st.FPS, st.Kbps, govLength(st), st.Cast.configuration())
}

// audioConfiguration returns the audio encoder of a profile, "" where it has none.
func audioConfiguration(i int, st feed, element string) string {
	word := map[string]string{"true": "G711", "silent": "G711", "aac": "AAC", "latm": "AAC", "g726": "G726"}[st.Audio]
	if word == "" {
		return ""
	}
	return fmt.Sprintf(`<T:%[1]s token="aenc_%[2]d"><T:Name>a</T:Name><T:Encoding>%[3]s</T:Encoding></T:%[1]s>`, element, i, word)
}

// media2Service answers the Media2 service of ver20.
func (d *device) media2Service(o operation) (string, *fault) {
	switch o.name {
	case "GetProfiles":
		var b strings.Builder
		for i, st := range d.configured() {
			if !st.there() {
				continue
			}
			fmt.Fprintf(&b, `<X:Profiles token="prof_%d" fixed="%t"><X:Name>%s</X:Name><X:Configurations><X:VideoSource token="vsc">`+
				`<T:Name>s</T:Name><T:SourceToken>src_%d</T:SourceToken>`+
				`</X:VideoSource><X:VideoEncoder token="enc_%d"%s</X:VideoEncoder>%s</X:Configurations></X:Profiles>`, i, !st.Spare, d.profileName(st),
				st.channel, i, encoder2(st), strings.ReplaceAll(audioConfiguration(i, st, "AudioEncoder"), "T:AudioEncoder", "X:AudioEncoder"))
		}
		return b.String(), nil
	case "GetStreamUri":
		uri, f := d.streamURI(o)
		return "<X:Uri>" + uri + "</X:Uri>", f
	case "GetSnapshotUri":
		uri, f := d.snapshotURI(o)
		return "<X:Uri>" + uri + "</X:Uri>", f
	case "GetVideoEncoderConfigurations":
		var b strings.Builder
		for i, st := range d.configured() {
			fmt.Fprintf(&b, `<X:Configurations token="enc_%d"%s</X:Configurations>`, i, encoder2(st))
		}
		return b.String(), nil
	case "GetVideoEncoderInstances":
		return fmt.Sprintf("<X:Info><X:Total>%d</X:Total></X:Info>", len(d.sending())), nil
	case "CreateProfile":
		var want struct {
			List []struct{ Type, Token string } `xml:"Configuration"`
		}
		i := -1
		if element(o.body, "CreateProfile", &want) {
			for _, c := range want.List {
				if c.Type == "VideoEncoder" {
					fmt.Sscanf(c.Token, "enc_%d", &i)
				}
			}
		}
		i, f := d.makeProfile(o.arg("Name"), i)
		return fmt.Sprintf("<X:Token>prof_%d</X:Token>", i), f
	case "GetAudioEncoderConfigurationOptions":
		return "<X:Options><T:Encoding>PCMU</T:Encoding></X:Options><X:Options><T:Encoding>MP4A-LATM</T:Encoding></X:Options>", nil
	case "RemoveConfiguration", "AddConfiguration":
		if o.arg("Type") != "AudioEncoder" {
			return "", invalid("ter:ConfigModify", "Only the sound can be added and removed")
		}
		return d.setSound(o.arg("ProfileToken"), "prof_%d", map[string]string{"AddConfiguration": "true"}[o.name])
	}
	return d.anyMedia(o, true)
}

// encoder2 returns an encoder's setting in the form of Media2, from the attributes on.
func encoder2(st feed) string {
	return fmt.Sprintf(` GovLength="%d" Profile="Main"><T:Name>enc</T:Name><T:Encoding>%s</T:Encoding><T:Resolution>`+
		`<T:Width>%d</T:Width><T:Height>%d</T:Height></T:Resolution>`+
		`<T:RateControl><T:FrameRateLimit>%d</T:FrameRateLimit><T:BitrateLimit>%d</T:BitrateLimit></T:RateControl>%s`,
		st.GOP, strings.Replace(encodings[st.Codec], "MPEG4", "MPV4-ES", 1), st.Width, st.Height, st.FPS, st.Kbps, st.Cast.configuration())
}

// encodings are the codecs as the Media services spell them: ver10 in an enumeration of its own, Media2 as the name of the media type.
var encodings = map[scene.Codec]string{"": "H264", scene.H264: "H264", scene.H265: "H265", scene.JPEG: "JPEG", scene.MPEG4: "MPEG4"}

// govLength returns the codec's own part of an encoder configuration in the Media service of ver10.
func govLength(f feed) string {
	switch f.Codec {
	case scene.JPEG:
		return ""
	case scene.MPEG4:
		return fmt.Sprintf("<T:MPEG4><T:GovLength>%d</T:GovLength><T:Mpeg4Profile>SP</T:Mpeg4Profile></T:MPEG4>", f.GOP)
	}
	return fmt.Sprintf("<T:H264><T:GovLength>%d</T:GovLength><T:H264Profile>Main</T:H264Profile></T:H264>", f.GOP)
}

// path returns where a feed is to be had.
func (d *device) path(f feed) string { return d.maker.path(f.channel, f.tier) }

func tierName(i int) string { return []string{"Upper", "Lower", "Third"}[i%3] }

func (d *device) streamURI(o operation) (string, *fault) {
	var i int
	if _, err := fmt.Sscanf(o.arg("ProfileToken"), "prof_%d", &i); err != nil || i < 0 || i >= len(d.sending()) {
		return "", invalid("ter:NoProfile", "There is no such profile")
	}
	if !d.configured()[i].there() {
		return "", invalid("ter:NoProfile", "There is no such profile")
	}
	path := d.path(d.sending()[i])
	if d.Defects.WrongPaths {
		path = strings.ToUpper(path)
	}
	return onvif.Escape("rtsp://" + d.named(d.rtspPort) + path), nil
}

func randomHex() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}
