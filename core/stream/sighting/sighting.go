// Package sighting holds what is heard of a device: one Sighting is one answer from one address, by whatever method.
package sighting

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/google/uuid"
)

// A Method is how a sighting came about.
type Method string

const (
	WSDiscovery Method = "ws-discovery"
	MDNS        Method = "mdns"
	SSDP        Method = "ssdp"
	Neighbours  Method = "neighbour table"
	PortSweep   Method = "port sweep"
	Pasted      Method = "pasted URL" // a person pasted its URL
	ByRecorder  Method = "recorder"   // a recorder told of a channel
)

// A Kind is what a device seems to be.
type Kind string

const (
	Camera   Kind = "camera"
	Recorder Kind = "recorder"
	Other    Kind = "other"
)

// A Port is an open port with what it said to a harmless question.
type Port struct {
	Number uint16 `json:"number"`
	Speaks string `json:"speaks" enum:"rtsp,http,device service,https,rtsps,unknown" doc:"what answered there"`
	Named  bool   `json:"named,omitempty" doc:"the device named the port itself"`
	Server string `json:"server,omitempty" doc:"the Server line of the answer"`
}

func (p Port) String() string { return fmt.Sprintf("%d (%s)", p.Number, p.Speaks) }

// A Sighting is one answer heard from one address.
type Sighting struct {
	Method   Method     `json:"method"`
	At       time.Time  `json:"at"`
	Addr     netip.Addr `json:"addr"`
	Stray    bool       `json:"stray,omitempty" doc:"heard at an address outside the site's ranges"`
	Endpoint string     `json:"endpoint,omitempty" doc:"WS-Discovery endpoint reference"`
	Kind     Kind       `json:"kind"`
	Name     string     `json:"name,omitempty"`
	Hardware string     `json:"hardware,omitempty"`
	Maker    string     `json:"maker,omitempty"`
	Serial   string     `json:"serial,omitempty"`
	MAC      string     `json:"mac,omitempty" doc:"lower case, parted by colons"`
	Is       string     `json:"is,omitempty" doc:"what it calls its kind, where it is neither camera nor recorder"`
	Location string     `json:"location,omitempty"`
	XAddr    string     `json:"xaddr,omitempty" doc:"device service address, its host put right"`
	Ports    []Port     `json:"ports,omitempty"`
	// Certificate is the one shown on a TLS port: SHA-256, lower-case hex. Makers ship one certificate on many devices, so that it is the
	// least of the marks of identity.
	Certificate string `json:"certificate,omitempty"`
	// Via and Channel tell of a camera that is reached through a recorder: nothing of its own answers at Addr.
	Via     *uuid.UUID `json:"via,omitempty" doc:"the recorder's device"`
	Channel int        `json:"channel,omitempty"`
	Camera  string     `json:"camera,omitempty" doc:"its own address on the recorder's private subnet"`
	Of      string     `json:"of,omitempty" doc:"the recorder's name at that time"`
	Page    string     `json:"page,omitempty" doc:"the recorder's way through to its page"`

	// Description is where SSDP's device description is, on the device itself. It is asked at once and not recorded.
	Description string `json:"-"`
}
