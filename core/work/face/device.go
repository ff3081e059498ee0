package face

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/onvif"
)

// deviceOperations are those of device management (ONVIF Core Specification §8).
var deviceOperations = map[string]func(f *Face, o operation) (string, *fault){
	"GetSystemDateAndTime": func(*Face, operation) (string, *fault) { return clock(time.Now().UTC()), nil },
	"GetServices":          (*Face).servicesList,
	"GetServiceCapabilities": func(*Face, operation) (string, *fault) {
		return "<x:Capabilities>" + deviceCapabilities + "</x:Capabilities>", nil
	},
	"GetCapabilities":      (*Face).capabilities,
	"GetDeviceInformation": (*Face).information,
	"GetEndpointReference": func(f *Face, _ operation) (string, *fault) { return "<x:GUID>" + f.ID + "</x:GUID>", nil },
	"GetScopes": func(f *Face, _ operation) (string, *fault) {
		var b strings.Builder
		for _, s := range f.Scopes() {
			b.WriteString("<x:Scopes><t:ScopeDef>Fixed</t:ScopeDef><t:ScopeItem>" + onvif.Escape(s) + "</t:ScopeItem></x:Scopes>")
		}
		return b.String(), nil
	},
	"GetHostname": func(*Face, operation) (string, *fault) {
		return "<x:HostnameInformation><t:FromDHCP>false</t:FromDHCP></x:HostnameInformation>", nil
	},
	"GetDNS": func(*Face, operation) (string, *fault) {
		return "<x:DNSInformation><t:FromDHCP>false</t:FromDHCP></x:DNSInformation>", nil
	},
	"GetNTP": func(*Face, operation) (string, *fault) {
		return "<x:NTPInformation><t:FromDHCP>false</t:FromDHCP></x:NTPInformation>", nil
	},
	"GetNetworkInterfaces":     (*Face).interfaces,
	"GetNetworkProtocols":      (*Face).protocols,
	"GetNetworkDefaultGateway": func(*Face, operation) (string, *fault) { return "<x:NetworkGateway></x:NetworkGateway>", nil },
	"GetDiscoveryMode":         func(*Face, operation) (string, *fault) { return "<x:DiscoveryMode>Discoverable</x:DiscoveryMode>", nil },
	"GetUsers": func(f *Face, _ operation) (string, *fault) {
		return "<x:User><t:Username>" + onvif.Escape(f.User) + "</t:Username><t:UserLevel>User</t:UserLevel></x:User>", nil
	},
	"GetWsdlUrl": func(*Face, operation) (string, *fault) {
		return "<x:WsdlUrl>http://www.onvif.org/ver10/device/wsdl</x:WsdlUrl>", nil
	},
}

// deviceCapabilities say what the device service can do: nothing but answer.
const deviceCapabilities = `<x:Network IPFilter="false" ZeroConfiguration="false" IPVersion6="false" DynDNS="false" NTP="0"/>` +
	`<x:Security UsernameToken="true" HttpDigest="true" MaxUsers="1"/>` +
	`<x:System DiscoveryResolve="false" DiscoveryBye="true" RemoteDiscovery="false" SystemBackup="false" SystemLogging="false" ` +
	`FirmwareUpgrade="false"/>`

// clock is the time as GetSystemDateAndTime tells it.
func clock(t time.Time) string {
	at := fmt.Sprintf("<t:Time><t:Hour>%d</t:Hour><t:Minute>%d</t:Minute><t:Second>%d</t:Second></t:Time>"+
		"<t:Date><t:Year>%d</t:Year><t:Month>%d</t:Month><t:Day>%d</t:Day></t:Date>", t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(),
		t.Day())
	return "<x:SystemDateAndTime><t:DateTimeType>NTP</t:DateTimeType><t:DaylightSavings>false</t:DaylightSavings>" +
		"<t:TimeZone><t:TZ>UTC0</t:TZ></t:TimeZone><t:UTCDateTime>" + at + "</t:UTCDateTime><t:LocalDateTime>" + at +
		"</t:LocalDateTime></x:SystemDateAndTime>"
}

// servicesList answers GetServices, in order of path.
func (f *Face) servicesList(o operation) (string, *fault) {
	inner := map[string]string{devicePath: "<x:Capabilities>" + deviceCapabilities + "</x:Capabilities>", mediaPath: mediaCapabilities("trt"),
		media2Path: media2Capabilities("tr2")}
	var b strings.Builder
	for _, path := range []string{devicePath, mediaPath, media2Path} {
		can := ""
		if o.arg("IncludeCapability") == "true" {
			can = "<x:Capabilities>" + inner[path] + "</x:Capabilities>"
		}
		fmt.Fprintf(&b, "<x:Service><x:Namespace>%s</x:Namespace><x:XAddr>http://%s%s</x:XAddr>%s<x:Version><t:Major>2</t:Major>"+
			"<t:Minor>60</t:Minor></x:Version></x:Service>", namespaces[path], f.At, path, can)
	}
	return b.String(), nil
}

// capabilities answers GetCapabilities, which older clients ask in place of GetServices (§8.1.2.2).
func (f *Face) capabilities(o operation) (string, *fault) {
	device := "<t:Device><t:XAddr>" + f.Address() + "</t:XAddr></t:Device>"
	media := "<t:Media><t:XAddr>http://" + f.At.String() + mediaPath + "</t:XAddr><t:StreamingCapabilities>" +
		"<t:RTPMulticast>false</t:RTPMulticast><t:RTP_TCP>true</t:RTP_TCP><t:RTP_RTSP_TCP>true</t:RTP_RTSP_TCP>" +
		"</t:StreamingCapabilities></t:Media>"
	switch o.arg("Category") {
	case "", "All":
		return "<x:Capabilities>" + device + media + "</x:Capabilities>", nil
	case "Device":
		return "<x:Capabilities>" + device + "</x:Capabilities>", nil
	case "Media":
		return "<x:Capabilities>" + media + "</x:Capabilities>", nil
	}
	return "", &fault{"s:Receiver", "ter:ActionNotSupported", "ter:NoSuchService", "There is no such service."}
}

// maker and model are what a face says of itself: it is no camera of anybody's.
const (
	maker = "Unlatch"
	model = "Relay"
)

func (f *Face) information(operation) (string, *fault) {
	return fmt.Sprintf("<x:Manufacturer>%s</x:Manufacturer><x:Model>%s</x:Model><x:FirmwareVersion>%s</x:FirmwareVersion>"+
		"<x:SerialNumber>%s</x:SerialNumber><x:HardwareId>%s</x:HardwareId>", maker, model, onvif.Escape(f.Version),
		strings.ReplaceAll(f.ID, "-", ""), model), nil
}

// Scopes are those of Profile S (ONVIF Core Specification §7.3.3).
func (f Face) Scopes() []string {
	return []string{"onvif://www.onvif.org/type/video_encoder", "onvif://www.onvif.org/type/Network_Video_Transmitter",
		"onvif://www.onvif.org/Profile/Streaming", "onvif://www.onvif.org/hardware/" + model,
		"onvif://www.onvif.org/name/" + url.PathEscape(f.Name)}
}

func (f *Face) interfaces(operation) (string, *fault) {
	return `<x:NetworkInterfaces token="if0"><t:Enabled>true</t:Enabled><t:IPv4><t:Enabled>true</t:Enabled><t:Config><t:Manual><t:Address>` +
		f.At.Addr().String() + "</t:Address><t:PrefixLength>24</t:PrefixLength></t:Manual><t:DHCP>false</t:DHCP></t:Config></t:IPv4>" +
		"</x:NetworkInterfaces>", nil
}

func (f *Face) protocols(operation) (string, *fault) {
	one := func(name string, port int) string {
		return fmt.Sprintf("<x:NetworkProtocols><t:Name>%s</t:Name><t:Enabled>true</t:Enabled><t:Port>%d</t:Port>"+
			"</x:NetworkProtocols>", name, port)
	}
	out := one("HTTP", int(f.At.Port()))
	if u, err := streamurl.Parse(f.Stream.URI); err == nil {
		out += one("RTSP", u.DialPort())
	}
	return out, nil
}
