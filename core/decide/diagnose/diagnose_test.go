package diagnose_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/rtsp"
	"unlatch/core/wire/target"
)

// Every error of core has a cause of its own, said in full and with what to do.
func TestExplain(t *testing.T) {
	facts := diagnose.Facts{Host: "192.0.2.7", Port: 554, Asking: "the device service", User: "fitter"}
	for _, c := range []struct {
		err  error
		want diagnose.Cause
		says string
	}{
		{&address.OutOfScopeError{Addr: netip.MustParseAddr("192.0.2.7"), Ranges: address.MustParse("198.51.100.0/24")},
			diagnose.OutOfScope, "198.51.100.0/24"},
		{&signin.HeldBackError{Wrong: 3, Until: time.Unix(3600, 0)}, diagnose.HeldBack, "3 sign-ins were refused"},
		{&streamurl.SyntaxError{Problem: "it is empty", Fix: "type one"}, diagnose.BadURL, "it is empty"},
		{context.Canceled, diagnose.Stopped, "Stopped"},
		{fmt.Errorf("connecting: %w", syscall.ECONNREFUSED), diagnose.PortClosed, "port 554 is closed"},
		{fmt.Errorf("connecting: %w", syscall.EHOSTUNREACH), diagnose.NoAnswer, "no way"},
		{fmt.Errorf("connecting: %w", os.ErrDeadlineExceeded), diagnose.NoAnswer, "Nothing answers at 192.0.2.7:554"},
		{fmt.Errorf("reading: %w", syscall.ECONNRESET), diagnose.Dropped, "closed the connection"},
		{&rtsp.AuthError{Offered: []string{"digest MD5"}}, diagnose.NoSignIn, "digest MD5"},
		{&rtsp.AuthError{Tried: true, Scheme: "basic", Offered: []string{"basic"}}, diagnose.WrongSignIn, `"fitter"`},
		{errors.Join(&rtsp.AuthError{}, &httpauth.UnknownSchemeError{}), diagnose.SchemeUnknown, "without offering"},
		{&rtsp.StatusError{Method: "DESCRIBE", Status: 403}, diagnose.LevelTooLow, "403"},
		{&rtsp.StatusError{Method: "DESCRIBE", Status: 404}, diagnose.PathUnknown, "404"},
		{&rtsp.StatusError{Method: "SETUP", Status: 453}, diagnose.SessionLimit, "453"},
		{&rtsp.StatusError{Method: "SETUP", Status: 461}, diagnose.TransportRefused, "TCP"},
		{&rtsp.StatusError{Method: "PLAY", Status: 503}, diagnose.Busy, "503"},
		{&rtsp.StatusError{Method: "PLAY", Status: 455, Reason: "Not Valid"}, diagnose.StreamStatus, "455 Not Valid"},
		{&media.SDPError{Problem: "is empty"}, diagnose.BadDescription, "is empty"},
		{&media.HeaderError{Header: "parameter set (SPS)", Problem: "claims a picture of 0 x 0"}, diagnose.BadParameterSet, "0 x 0"},
		{&diagnose.PictureError{Cause: diagnose.CodecNotMeasured, Detail: "H.265"}, diagnose.CodecNotMeasured, "H.265"},
		{&diagnose.PictureError{Cause: diagnose.NoPackets}, diagnose.NoPackets, "no packets of the picture"},
		{&diagnose.PictureError{Cause: diagnose.NoProfiles}, diagnose.NoProfiles, "no media profile"},
		{&target.FullError{Slots: 8}, diagnose.TargetFull, "All 8 slots"},
		{&onvif.RefusedError{NoSignIn: true}, diagnose.NoSignIn, "The device service wants a sign-in"},
		{&onvif.RefusedError{Scheme: "WS-UsernameToken"}, diagnose.WrongSignIn, `"fitter"`},
		{&onvif.Fault{Codes: []string{"Sender", "OperationProhibited"}, Reason: "no"}, diagnose.LevelTooLow, "does not allow"},
		{&onvif.Fault{Codes: []string{"Receiver"}, Reason: "tired"}, diagnose.Unfit, "tired"},
		{errors.New("the moon is full"), diagnose.Unknown, "The moon is full"},
	} {
		got := diagnose.Explain(c.err, facts)
		assert.Equal(t, c.want, got.Cause, "%v", c.err)
		assert.Contains(t, got.Summary, c.says, "%v", c.err)
		assert.NotEmpty(t, got.Fix, "%v", c.err)
		assert.NotEmpty(t, got.Seen, "%v", c.err)
	}
}
