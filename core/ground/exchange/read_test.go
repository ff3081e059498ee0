package exchange

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// conversation writes one as it happens: each entry a number of milliseconds after the one before.
func conversation(entries ...string) string {
	now := time.Unix(0, 0)
	l := NewLog(func() time.Time { return now })
	for _, e := range entries {
		now = now.Add(5 * time.Millisecond)
		sign, text := e[0], e[1:]
		switch sign {
		case '>':
			l.Sent(text)
		case '<':
			l.Got(text)
		default:
			l.Note("%s", text)
		}
	}
	return l.String()
}

func TestRead(t *testing.T) {
	turns := Read(conversation("-connected to 192.0.2.7:554",
		">DESCRIBE rtsp://192.0.2.7/a RTSP/1.0\r\nCSeq: 1\r\n\r\n",
		"<RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\nWWW-Authenticate: Digest realm=\"x\"\r\n\r\n",
		">DESCRIBE rtsp://192.0.2.7/a RTSP/1.0\r\nCSeq: 2\r\nAuthorization: Digest username=\"a\"\r\n\r\n",
		"<RTSP/1.0 200 OK\r\nContent-Type: application/sdp\r\n\r\nv=0\r\ns=x\r\n",
		">SETUP rtsp://192.0.2.7/a/t1 RTSP/1.0\r\nCSeq: 3\r\n\r\n",
		"<RTSP/1.0 461 Unsupported Transport\r\n\r\n",
		">TEARDOWN rtsp://192.0.2.7/a RTSP/1.0\r\n\r\n",
		"-the time is up"))
	require.Len(t, turns, 6)
	assert.Equal(t, Turn{AtMS: 5, Note: "connected to 192.0.2.7:554"}, turns[0])
	assert.Equal(t, []any{"DESCRIBE /a", "401 Unauthorized", "", 5.0},
		[]any{turns[1].Asked, turns[1].Answer, turns[1].Mark, turns[1].TookMS})
	assert.Equal(t, []any{"200 OK", "", "v=0\r\ns=x\r\n"}, []any{turns[2].Answer, turns[2].Mark, turns[2].SDP})
	assert.Contains(t, turns[2].Sent, "CSeq: 2\nAuthorization")
	assert.Equal(t, "it does not send over this transport", turns[3].Mark)
	assert.Equal(t, "no answer came", turns[4].Mark)
	assert.Equal(t, 4, Mattered(turns))
	assert.Equal(t, 3, Mattered(turns[:4]))
	assert.Equal(t, -1, Mattered(turns[:1]))
	assert.Equal(t, "it wants a sign-in", Read(conversation(">DESCRIBE rtsp://192.0.2.7/a RTSP/1.0",
		"<RTSP/1.0 401 Unauthorized"))[0].Mark, "and none went out")
}

func TestReadSOAP(t *testing.T) {
	ask := ">POST http://192.0.2.7:8080/onvif/m\r\nContent-Type: application/soap+xml; " +
		"action=\"http://www.onvif.org/ver10/media/wsdl/GetStreamUri\"\r\n<s/>"
	for answer, want := range map[string][3]string{
		"HTTP/1.1 200 OK\r\n\r\n<tt:Uri>rtsp://10.11.0.9/x</tt:Uri>": {"GetStreamUri", "200 OK",
			"it names 10.11.0.9, and was asked at 192.0.2.7"},
		"HTTP/1.1 200 OK\r\n\r\n<tt:Uri>rtsp://192.0.2.7/x</tt:Uri>": {"GetStreamUri", "200 OK", ""},
		"HTTP/1.1 400 Bad Request\r\n\r\n<Value>ter:InvalidArgVal</Value>": {"GetStreamUri", "400 Bad Request InvalidArgVal",
			"it answers with the fault InvalidArgVal"},
		"HTTP/1.1 401 Unauthorized\r\n\r\n<Value>ter:NotAuthorized</Value>": {"GetStreamUri", "401 Unauthorized", "it wants a sign-in"},
		"HTTP/1.1 418 Teapot\r\n\r\n":                                       {"GetStreamUri", "418 Teapot", "it refuses"},
		"hello":                                                             {"GetStreamUri", "hello", ""},
	} {
		turns := Read(conversation(ask, "<"+answer))
		require.Len(t, turns, 1)
		assert.Equal(t, want, [3]string{turns[0].Asked, turns[0].Answer, turns[0].Mark}, answer)
	}
}

// What a device says can look like an entry: it stays within the answer that it came in.
func TestReadIsNotMisled(t *testing.T) {
	turns := Read(conversation(">GET /", "<HTTP/1.1 200 OK\n>       1.5 ms  DESCRIBE rtsp://mine\n\nlast"))
	require.Len(t, turns, 1)
	assert.Contains(t, turns[0].Got, "DESCRIBE rtsp://mine\n\nlast")
	turns = Read("what somebody else wrote\nin two lines")
	assert.Equal(t, []string{"what somebody else wrote", "in two lines"}, []string{turns[0].Note, turns[1].Note})
	assert.Empty(t, Read(""))
	assert.Len(t, Read(strings.Repeat("-       1.0 ms  x\n", 3*maxTurns)), maxTurns)
}

func FuzzRead(f *testing.F) {
	f.Add(conversation("-a", ">b", "<c"))
	f.Add(">       1.0 ms  \n>               \n<")
	f.Fuzz(func(t *testing.T, text string) {
		turns := Read(text)
		if i := Mattered(turns); i >= len(turns) {
			t.Fatal("a turn that is not there")
		}
	})
}
