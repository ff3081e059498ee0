package diagnose

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/fix"
	"unlatch/core/wire/netconfig"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/picture"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
)

// everyError holds each error that tells a trouble, in each of its forms.
func everyError() []error {
	addr := netip.MustParseAddr("192.0.2.7")
	tls := signin.Channel{Scheme: "https", At: "192.0.2.7:443", Certificate: "ab12"}
	list := []error{
		&address.OutOfScopeError{Addr: addr, Ranges: address.MustParse("198.51.100.0/24")},
		&address.MovedNameError{Name: "vault.tarnside.example", Was: []netip.Addr{addr}, Now: []netip.Addr{addr.Next()}},
		&player.NoTransportError{}, &player.NoTransportError{Packets: 9}, &player.NoTransportError{Packets: 9, Scrambled: 9},
		&player.NoTransportError{Packets: 9, Tables: true},
		&streamurl.SyntaxError{Problem: "it is empty", Fix: "type one"},
		&certificate.ChangedError{Pinned: "ab"},
		&exchange.SlowError{Bytes: 7, After: time.Second}, &exchange.MuteError{},
		&httpauth.UnknownSchemeError{}, &httpauth.UnknownSchemeError{TooLong: true},
		&signin.LockedError{Wait: time.Minute, Hinted: true}, &signin.LockedError{Wait: 10 * time.Minute},
		&signin.HeldBackError{Wrong: 3}, &signin.HeldBackError{Locked: true},
		&signin.ReadableError{Scheme: "basic"}, &signin.ReadableError{Scheme: "basic", Channel: tls},
		&signin.ReadableError{Scheme: "basic", Agreed: true}, &signin.WeakerError{Before: "digest MD5", Now: "basic"},
		&netconfig.OccupiedError{Addr: addr, Port: 80}, &netconfig.ImpostorError{Addr: addr}, &netconfig.StayedError{Old: addr, New: addr},
		&netconfig.LostError{New: addr, Wait: time.Minute},
		&media.SDPError{Problem: "is empty"}, &media.HeaderError{Header: "SPS", Problem: "is empty"},
		&rtsp.AuthError{Offered: []string{"basic"}}, &rtsp.AuthError{Tried: true, Scheme: "basic"},
		&rtsp.SilentError{Requests: 2}, &rtsp.SilentError{Others: 2}, &rtsp.SilentError{Frames: 2}, &rtsp.SilentError{Bytes: 2},
		&rtsp.SilentError{Playing: true}, &rtsp.SilentError{}, &rtsp.LimitError{What: "header", Limit: 9},
		&rtsp.WrongProtocolError{Spoken: "HTTP"}, &rtsp.ProtocolError{Problem: "no status"}, &rtsp.NoTunnelError{Status: 404},
		&rtsp.DowngradeError{To: "rtsp://192.0.2.7"},
		&picture.RefusedError{}, &picture.RefusedError{Tried: true, Scheme: "basic"}, &picture.StatusError{Status: 403},
		&picture.StatusError{Status: 404}, &picture.NotPictureError{Problem: "text"}, &picture.RedirectError{To: "/"},
		&recipe.AnsweredError{Path: "/a", Status: 500}, &recipe.ExcludedError{Other: "a", Is: "on"}, &recipe.NothingError{Command: "a"},
		&recipe.NotFoundError{What: "a", Path: "/a"}, &recipe.SettingError{Name: "a", Problem: "is missing"}, &recipe.NoWebError{},
		&recipe.NoWayBackError{Err: errors.New("a is b")},
		&picture.EndedError{Err: io.EOF}, &player.NoTransportError{Others: 3},
		&onvif.Fault{Codes: []string{"NotAuthorized"}, Reason: "no"}, &onvif.Fault{Codes: []string{"Receiver"}, Reason: "tired"},
		&onvif.NotSOAPError{Problem: "a page"}, &onvif.RefusedError{NoSignIn: true}, &onvif.RefusedError{}, &onvif.LimitError{What: "depth"},
		&onvif.NoPTZError{Why: "it cannot move"}, &fix.NotKeptError{What: "the clock", Wanted: "12", Got: "11"},
		&target.FullError{Slots: 8}, &target.FullError{Slots: 8, Blocked: 2, Why: "analogue"}, &target.BlockedError{Slot: "3", Why: "analogue"},
		&target.LockedSlotError{Slot: "3", Why: "its file"}, &target.TakenError{Slot: "3", By: "Turntable"}, &target.GoneSlotError{Slot: "3"},
		&target.UnableError{Target: "Hearthline", Ability: "take off"}, &target.TemplatesFullError{Most: 4, Path: "/a"},
		&target.ThroughError{Target: "Hearthline"}, &target.RefusedBeforeError{Target: "Hearthline"},
		&target.HandingError{Secret: target.OwnSignIn}, &target.HandingError{Secret: target.OwnSignIn, Changed: "certificate"},
		&target.HandingError{Secret: target.CameraSignIn}, &target.HandingError{Secret: target.CameraSignIn, Changed: "certificate"},
		&target.HandingError{Secret: target.CameraSignIn, Agreed: true},
		&target.HandingError{Secret: target.OwnSignIn, Channel: signin.Channel{Scheme: "mqtt", At: "192.0.2.7:1883"}, Scheme: "basic"},
		&live.KeyError{Says: "no"}, &hub.RefusedError{Says: "no"}, &hub.SilentError{Prefix: "home"},
		&bridge.BrokenError{Problem: "no list"}, &bridge.RefusedError{}, &bridge.RefusedError{Tried: true, Scheme: "basic"},
		&UnfitSignInError{Encoded: true}, &UnfitSignInError{Long: true}, &TargetShutError{Name: "Holloway"},
		&NoMarkError{Why: "it draws no label"}, &StandsError{What: "the label stands"},
		syscall.ECONNREFUSED, syscall.EHOSTUNREACH, syscall.ECONNRESET, os.ErrDeadlineExceeded,
		errors.New(`malformed HTTP response "RTSP/1.0"`), errors.New("the moon is full"),
	}
	for _, status := range []int{403, 404, 453, 461, 503, 455} {
		list = append(list, &rtsp.StatusError{Method: "PLAY", Status: status, Reason: "no"})
	}
	for _, kind := range []string{bridge.TypeFull, bridge.TypeTaken, bridge.TypeLocked, bridge.TypeNoSlot, bridge.TypeMisfit,
		bridge.TypeBusy, "other"} {
		list = append(list, &bridge.Problem{Type: kind, Title: "no"})
	}
	for _, cause := range []trouble.Cause{trouble.NoVideo, trouble.NoPackets, trouble.NoKeyframe, trouble.NotDecodable,
		trouble.CodecNotMeasured, trouble.NoProfiles} {
		list = append(list, &PictureError{Cause: cause, Detail: "H.265"})
	}
	return list
}

func TestEveryErrorHasItsSentences(t *testing.T) {
	types := map[string]bool{}
	used := map[key]bool{{trouble.Stopped, ""}: true}
	for _, err := range everyError() {
		types[strings.TrimPrefix(fmt.Sprintf("%T", err), "*")] = true
		told, _ := trouble.Of(err)
		k := key{told.Cause, told.Form}
		used[k] = true
		_, device := ofDevices[k]
		_, other := ofTargets[k]
		assert.True(t, device || other, "%T has no sentences for %v", err, k)
		for _, asked := range []bool{false, true} {
			d := Explain(err, Facts{Host: "192.0.2.7", Port: 554, Asking: "the device service", User: "fitter", Target: asked})
			assert.Equal(t, told.Cause, d.Cause)
			assert.NotEmpty(t, d.Seen, "%T", err)
			for _, text := range []string{d.Summary, d.Fix} {
				assert.NotEmpty(t, text, "%T", err)
				assert.NotRegexp(t, `[{}]|<nil>|%!`, text, "%T leaves something out", err)
			}
		}
	}
	for _, table := range []map[key]sentences{ofDevices, ofTargets} {
		for k := range table {
			assert.True(t, used[k], "nothing tells %v", k)
		}
	}
	for _, name := range tellersOfCore(t) {
		assert.True(t, types[name], "%s is not among the errors of this test", name)
	}
}

// tellersOfCore finds the types of core that tell a trouble in the source: "rtsp.AuthError".
func tellersOfCore(t *testing.T) (names []string) {
	method := regexp.MustCompile(`(?m)^func \(\w+ \*?(\w+)\) Trouble\(\) trouble\.Trouble`)
	require.NoError(t, filepath.WalkDir("../..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasSuffix(path, "_test.go") || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range method.FindAllStringSubmatch(string(text), -1) {
			dir, _ := filepath.Abs(filepath.Dir(path))
			names = append(names, filepath.Base(dir)+"."+m[1])
		}
		return err
	}))
	require.Greater(t, len(names), 40)
	return names
}
