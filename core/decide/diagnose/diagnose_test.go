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
	"unlatch/core/ground/trouble"
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
		want trouble.Cause
		says string
	}{
		{&address.OutOfScopeError{Addr: netip.MustParseAddr("192.0.2.7"), Ranges: address.MustParse("198.51.100.0/24")},
			trouble.OutOfScope, "198.51.100.0/24"},
		{&signin.HeldBackError{Wrong: 3, Until: time.Unix(3600, 0)}, trouble.HeldBack, "3 sign-ins were refused"},
		{&streamurl.SyntaxError{Problem: "it is empty", Fix: "type one"}, trouble.BadURL, "it is empty"},
		{context.Canceled, trouble.Stopped, "Stopped"},
		{fmt.Errorf("connecting: %w", syscall.ECONNREFUSED), trouble.PortClosed, "port 554 is closed"},
		{fmt.Errorf("connecting: %w", syscall.EHOSTUNREACH), trouble.NoAnswer, "no way"},
		{fmt.Errorf("connecting: %w", os.ErrDeadlineExceeded), trouble.NoAnswer, "Nothing answers at 192.0.2.7:554"},
		{fmt.Errorf("reading: %w", syscall.ECONNRESET), trouble.Dropped, "closed the connection"},
		{&rtsp.AuthError{Offered: []string{"digest MD5"}}, trouble.NoSignIn, "digest MD5"},
		{&rtsp.AuthError{Tried: true, Scheme: "basic", Offered: []string{"basic"}}, trouble.WrongSignIn, `"fitter"`},
		{errors.Join(&rtsp.AuthError{}, &httpauth.UnknownSchemeError{}), trouble.SchemeUnknown, "without offering"},
		{&rtsp.StatusError{Method: "DESCRIBE", Status: 403}, trouble.LevelTooLow, "403"},
		{&rtsp.StatusError{Method: "DESCRIBE", Status: 404}, trouble.PathUnknown, "404"},
		{&rtsp.StatusError{Method: "SETUP", Status: 453}, trouble.SessionLimit, "453"},
		{&rtsp.StatusError{Method: "SETUP", Status: 461}, trouble.TransportRefused, "TCP"},
		{&rtsp.StatusError{Method: "PLAY", Status: 503}, trouble.Busy, "503"},
		{&rtsp.StatusError{Method: "PLAY", Status: 455, Reason: "Not Valid"}, trouble.StreamStatus, "455 Not Valid"},
		{&media.SDPError{Problem: "is empty"}, trouble.BadDescription, "is empty"},
		{&media.HeaderError{Header: "parameter set (SPS)", Problem: "claims a picture of 0 x 0"}, trouble.BadParameterSet, "0 x 0"},
		{&diagnose.PictureError{Cause: trouble.CodecNotMeasured, Detail: "H.265"}, trouble.CodecNotMeasured, "H.265"},
		{&diagnose.PictureError{Cause: trouble.NoPackets}, trouble.NoPackets, "no packets of the picture"},
		{&diagnose.PictureError{Cause: trouble.NoProfiles}, trouble.NoProfiles, "no media profile"},
		{&target.FullError{Slots: 8}, trouble.TargetFull, "All 8 slots"},
		{&onvif.RefusedError{NoSignIn: true}, trouble.NoSignIn, "The device service wants a sign-in"},
		{&onvif.RefusedError{Scheme: "WS-UsernameToken"}, trouble.WrongSignIn, `"fitter"`},
		{&onvif.Fault{Codes: []string{"Sender", "OperationProhibited"}, Reason: "no"}, trouble.LevelTooLow, "does not allow"},
		{&onvif.Fault{Codes: []string{"Receiver"}, Reason: "tired"}, trouble.Unfit, "tired"},
		{errors.New("the moon is full"), trouble.Unknown, "The moon is full"},
	} {
		got := diagnose.Explain(c.err, facts)
		assert.Equal(t, c.want, got.Cause, "%v", c.err)
		assert.Contains(t, got.Summary, c.says, "%v", c.err)
		assert.NotEmpty(t, got.Fix, "%v", c.err)
		assert.NotEmpty(t, got.Seen, "%v", c.err)
	}
}
