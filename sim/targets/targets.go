// Package targets is the stand-ins of what cameras are put onto: recorders with a protocol of their own, management software, a panel, an
// intercom station, a voice directory, a live platform, a home hub with its broker, and screens. Each really pulls and decodes what it is
// given, and refuses what it does not take.
package targets

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"time"

	"unlatch/core/ground/signin"
)

// A Target is one stand-in, as data.
type Target struct {
	Name    string        `yaml:"name"`
	Kind    string        `yaml:"kind"` // hybrid, templates, software, panel, intercom, directory, platform, hub, screen
	Maker   string        `yaml:"maker"`
	Model   string        `yaml:"model"`
	Address netip.Addr    `yaml:"address"`
	Port    int           `yaml:"port"`
	User    string        `yaml:"user"`
	Secret  signin.Secret `yaml:"secret"`
	Slots   int           `yaml:"slots"`
	// Analogue is how many of a hybrid recorder's slots are analogue inputs; Project how many entries of a panel come from its project.
	Analogue int `yaml:"analogue"`
	Project  int `yaml:"project"`
	// LimitMbps is what may come in, in all; 0 for no limit.
	LimitMbps float64 `yaml:"limit_mbps"`
	// Streams is the port on which a recorder sends its slots on; 0 for none.
	Streams int `yaml:"streams"`
	// Recorders are the addresses whose channels an intercom station takes.
	Recorders []netip.Addr `yaml:"recorders"`
	Screens   []string     `yaml:"screens"`
	// Wait is how many seconds after its start a live platform's account begins to work.
	Wait int `yaml:"wait"`
	// Mute is of a platform that takes no sound.
	Mute    bool `yaml:"mute"`
	DelayMS int  `yaml:"delay_ms"` // of each call
	// TLS says that a hub's broker listens with TLS, with a certificate of its own.
	TLS bool `yaml:"tls"`
	// ConnectsMS is how long it says of a camera that it is connecting, before it looks whether its picture comes.
	ConnectsMS int `yaml:"connects_ms"`
	// Mixes says that the second camera which is put there is given the first one's streams, until it is put again.
	Mixes bool `yaml:"mixes"`
	// Codec is the one codec that it shows; "" for all of its kind.
	Codec string `yaml:"codec"`
	// Broken is how it breaks the contract: "hangs", "endless", "version", "twice", "flaps", "half", "lies", "forgets", "tells", "plain",
	// "deep", "no_problem", "open"; "" where it keeps it.
	Broken string `yaml:"broken"`
}

// A Stand is one that runs.
type Stand interface {
	stop()
}

// Options of a stand-in.
type Options struct {
	State string // folder for what it must remember over a restart; "" for nowhere
}

// Start starts one stand-in.
func Start(ctx context.Context, t Target, o Options) (Stand, error) {
	switch t.Kind {
	case "hub":
		return startHub(ctx, t)
	case "screen":
		return startScreen(ctx, t)
	}
	return startBridge(ctx, t, o)
}

// Stop ends it.
func Stop(s Stand) { s.stop() }

// Check reports what is wrong with the data of a stand-in.
func (t Target) Check() error {
	if _, ok := kinds[t.Kind]; !ok && t.Kind != "hub" && t.Kind != "screen" {
		return fmt.Errorf("target %q: no kind %q", t.Name, t.Kind)
	}
	if !t.Address.Is4() || !t.Address.IsLoopback() || t.Port == 0 {
		return fmt.Errorf("target %q: address and port have to be on loopback", t.Name)
	}
	return nil
}

// URL returns where it answers.
func (t Target) URL() string {
	if t.Kind == "hub" {
		return "mqtt://" + t.hostPort(t.Port)
	}
	return "http://" + t.hostPort(t.Port)
}

// Ingest returns where a live platform takes pictures in.
func (t Target) Ingest() string { return "rtmp://" + t.hostPort(t.Port+ingestPort) + "/live" }

func (t Target) hostPort(port int) string {
	return net.JoinHostPort(t.Address.String(), strconv.Itoa(port))
}

func listen(t Target, port int) (net.Listener, error) {
	l, err := net.Listen("tcp4", t.hostPort(port))
	if err != nil {
		return nil, fmt.Errorf("target %q: %w", t.Name, err)
	}
	return l, nil
}

func randomHex() string {
	b := make([]byte, 8)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// settle is how long a stand-in gives a picture before it says that none comes.
const settle = 4 * time.Second
