package media

import (
	"bytes"
	"encoding/xml"
	"slices"
	"time"
)

// Metadata is what came on an ONVIF metadata track (ONVIF Streaming Specification §5.1.2.1.1, vnd.onvif.metadata).
type Metadata struct {
	Packets   int      `json:"packets"`
	Documents int      `json:"documents"`
	Kinds     []string `json:"kinds,omitempty" doc:"the kinds of document that came: VideoAnalytics, PTZ, Event"`
	Malformed int      `json:"malformed,omitempty" doc:"documents that could not be read"`
}

// Bounds on a document of metadata and on the kinds that are named.
const (
	maxDocument = 256 << 10
	maxKinds    = 8
	maxTokens   = 20_000
)

// A MetadataMeter counts the documents of a metadata track. The marker bit ends each.
type MetadataMeter struct {
	track Track
	doc   []byte
	m     Metadata
}

// NewMetadataMeter prepares a meter for a metadata track.
func NewMetadataMeter(t Track) *MetadataMeter { return &MetadataMeter{track: t} }

// Packet takes one RTP packet.
func (m *MetadataMeter) Packet(b []byte, _ time.Time) {
	p, err := parseRTP(b)
	if err != nil || p.payloadType != m.track.Payload {
		return
	}
	m.m.Packets++
	if len(m.doc) < maxDocument {
		m.doc = append(m.doc, p.payload...)
	}
	if !p.marker {
		return
	}
	m.m.Documents++
	kinds, ok := documentKinds(m.doc[:min(len(m.doc), maxDocument)])
	if !ok {
		m.m.Malformed++
	}
	for _, k := range kinds {
		if ok && len(m.m.Kinds) < maxKinds && !slices.Contains(m.m.Kinds, k) {
			m.m.Kinds = append(m.m.Kinds, k)
		}
	}
	m.doc = m.doc[:0]
}

// documentKinds names the kinds in a document: the elements right below its root. A document is hostile until read: its depth and its
// tokens are bounded, and a name is letters.
func documentKinds(doc []byte) (kinds []string, ok bool) {
	d := xml.NewDecoder(bytes.NewReader(doc))
	depth := 0
	for range maxTokens {
		t, err := d.Token()
		if err != nil {
			return nil, false
		}
		switch t := t.(type) {
		case xml.StartElement:
			if depth++; depth == 2 && len(kinds) < maxKinds && letters(t.Name.Local) {
				kinds = append(kinds, t.Name.Local)
			}
			if depth > 64 {
				return nil, false
			}
		case xml.EndElement:
			if depth--; depth == 0 {
				return kinds, true
			}
		}
	}
	return nil, false
}

func letters(s string) bool {
	for _, r := range s {
		if r|0x20 < 'a' || r|0x20 > 'z' {
			return false
		}
	}
	return len(s) < 40
}

// Measured sums up what has come; nil where nothing has.
func (m *MetadataMeter) Measured() *Metadata {
	if m.m.Packets == 0 {
		return nil
	}
	out := m.m
	out.Kinds = slices.Clone(m.m.Kinds)
	return &out
}
