// Package proof is the measured result of playing one stream.
package proof

import (
	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/certificate"
	"unlatch/core/stream/media"
	"unlatch/core/stream/mpegts"
)

// A Proof is the measured result of playing one URL.
type Proof struct {
	URL             string                   `json:"url" doc:"without the password"`
	OK              bool                     `json:"ok"`
	Transport       string                   `json:"transport" enum:"tcp,udp,multicast,http tunnel,mpeg-ts,mpeg-ts over rtp"`
	TLS             *certificate.Certificate `json:"tls,omitempty" doc:"the certificate, of a stream over TLS"`
	Auth            string                   `json:"auth" doc:"the scheme that opened the stream, or none"`
	Server          string                   `json:"server"`
	Video           *media.Measured          `json:"video"`
	Audio           *media.Audio             `json:"audio" doc:"the audio track beside the picture, if packets of it came"`
	Metadata        *media.Metadata          `json:"metadata,omitempty" doc:"the metadata track beside the picture, if packets of it came"`
	TransportStream *mpegts.Transport        `json:"transport_stream,omitempty" doc:"what carries them, of a stream in datagrams"`
	FirstKeyframeMS float64                  `json:"first_keyframe_ms" doc:"from the start to the end of the first whole key frame; 0 for none"`
	Steps           []Step                   `json:"steps"`
	Diagnosis       *diagnose.Diagnosis      `json:"diagnosis"`

	Still    []byte `json:"-"` // JPEG
	Exchange string `json:"-"`
}

// A Step is one stage of a proof with the time it took.
type Step struct {
	Name string  `json:"name"`
	MS   float64 `json:"ms"`
}
