package rtsp

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
)

func reader(s string) *bufio.Reader { return bufio.NewReader(strings.NewReader(s)) }

func TestReadResponse(t *testing.T) {
	got, err := ReadResponse(reader("\r\nRTSP/1.0 200 OK\r\nCSeq: 2\r\nX-Long: one\r\n two\r\nWWW-Authenticate: a\r\nwww-authenticate: " +
		"b\r\nContent-Length: 3\r\n\r\nabcREST"))
	require.NoError(t, err)
	assert.Equal(t, 200, got.Status)
	assert.Equal(t, "one two", got.Header.Get("x-long"))
	assert.Equal(t, []string{"a", "b"}, got.Header.Values("WWW-AUTHENTICATE"))
	assert.Equal(t, "abc", string(got.Body))
}

func TestReadResponseBounds(t *testing.T) {
	for name, c := range map[string]struct {
		in   string
		want any
	}{
		"web server":      {"HTTP/1.1 400 Bad Request\r\n\r\n", new(*WrongProtocolError)},
		"nonsense":        {"hello\r\n\r\n", new(*ProtocolError)},
		"status no code":  {"RTSP/1.0 abc OK\r\n\r\n", new(*ProtocolError)},
		"only line ends":  {strings.Repeat("\r\n", 50), new(*ProtocolError)},
		"endless line":    {"RTSP/1.0 200 " + strings.Repeat("a", maxLine+1), new(*LimitError)},
		"endless header":  {"RTSP/1.0 200 OK\r\n" + strings.Repeat("a: b\r\n", maxHeaders+1), new(*LimitError)},
		"endless body":    {"RTSP/1.0 200 OK\r\nContent-Length: 99999999\r\n\r\n", new(*LimitError)},
		"length no count": {"RTSP/1.0 200 OK\r\nContent-Length: x\r\n\r\n", new(*ProtocolError)},
		"cut in a line":   {"RTSP/1.0 200 OK\r\nCSe", new(*ProtocolError)},
	} {
		_, err := ReadResponse(reader(c.in))
		assert.ErrorAs(t, err, c.want, name)
	}
	_, err := ReadResponse(reader("RTSP/1.0 200 OK\r\nContent-Length: 10\r\n\r\nabc"))
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = ReadRequest(reader("GET / HTTP/1.1\r\n\r\n"))
	assert.ErrorAs(t, err, new(*WrongProtocolError))
}

func TestMessagesKeepTheirLines(t *testing.T) {
	q := Request{Method: "DESCRIBE", URL: "rtsp://h/x", Header: Header{{"CSeq", "1"}, {"X", "a\r\nInjected: yes"}}}
	assert.Equal(t, "DESCRIBE rtsp://h/x RTSP/1.0\r\nCSeq: 1\r\nX: aInjected: yes\r\n\r\n", string(q.Bytes()), "a value cannot add lines")
}

// scripted serves answers in order; each is sent when a request has come. What came is returned by seen.
func scripted(t *testing.T, answers ...string) (u streamurl.URL, seen func() string) {
	l, err := net.Listen("tcp4", "127.41.4.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var got bytes.Buffer
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; i < len(answers); {
			c, err := l.Accept()
			if err != nil {
				return
			}
			r := bufio.NewReader(c)
			for i < len(answers) {
				q, err := ReadRequest(r)
				if err != nil {
					break
				}
				got.Write(q.Bytes())
				fmt.Fprint(c, strings.ReplaceAll(answers[i], "SEQ", q.Header.Get("CSeq")))
				i++
			}
			if i == len(answers) {
				time.AfterFunc(2*time.Second, func() { c.Close() })
			} else {
				c.Close()
			}
		}
	}()
	u, err = streamurl.Parse("rtsp://" + l.Addr().String() + "/x")
	require.NoError(t, err)
	return u, func() string { <-done; return got.String() }
}

var steward = signin.SignIn{User: "steward", Secret: signin.NewSecret("tarn")}

func dial(t *testing.T, u streamurl.URL, opt Options) *Conn {
	opt.Dial, opt.Timeout = &address.Guard{Allowed: address.MustParse("127.41.4.0/24")}, 500*time.Millisecond
	c, err := Dial(context.Background(), u, opt)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func TestSignInIsSentOnceAndWithTheStrongestScheme(t *testing.T) {
	challenge := "RTSP/1.0 401 Unauthorized\r\nCSeq: SEQ\r\nWWW-Authenticate: Basic realm=\"r\"\r\nWWW-Authenticate: Digest realm=\"r\", " +
		"nonce=\"n\"\r\n\r\n"
	u, seen := scripted(t, challenge, challenge)
	c := dial(t, u, Options{SignIn: steward})
	_, err := c.Describe(context.Background())
	var auth *AuthError
	require.ErrorAs(t, err, &auth)
	assert.True(t, auth.Tried)
	assert.Equal(t, "digest MD5", auth.Scheme)
	assert.Equal(t, []string{"basic", "digest MD5"}, auth.Offered)
	assert.Equal(t, 1, strings.Count(seen(), "Authorization: Digest"), "a wrong password costs one try")
	assert.NotContains(t, seen(), "Basic")
}

func TestStaleNonceIsAnsweredAnew(t *testing.T) {
	u, _ := scripted(t,
		"RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"n1\"\r\n\r\n",
		"RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"n2\", stale=true\r\n\r\n",
		"RTSP/1.0 200 OK\r\nCSeq: SEQ\r\nContent-Length: 3\r\n\r\nv=0")
	d, err := dial(t, u, Options{SignIn: steward}).Describe(context.Background())
	require.NoError(t, err)
	assert.Equal(t, "v=0", string(d.SDP))
}

// A device that replays its nonce and calls it stale, or calls every nonce stale, hears a sign-in a bounded number of times.
func TestNoncesThatAreReplayed(t *testing.T) {
	first := "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"n1\", qop=\"auth\"\r\n\r\n"
	replay := "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"n1\", qop=\"auth\", stale=true\r\n\r\n"
	fresh := "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"nSEQ\", stale=true\r\n\r\n"
	var auth *AuthError
	u, seen := scripted(t, first, replay)
	_, err := dial(t, u, Options{SignIn: steward}).Describe(context.Background())
	require.ErrorAs(t, err, &auth)
	assert.True(t, auth.Tried)
	assert.Equal(t, 1, strings.Count(seen(), "Authorization:"))
	u, seen = scripted(t, first, fresh, fresh)
	_, err = dial(t, u, Options{SignIn: steward}).Describe(context.Background())
	require.ErrorAs(t, err, &auth)
	assert.Equal(t, 2, strings.Count(seen(), "Authorization:"))

	// Within one session the nonce is used on, and each use is counted, so that a replayed request is refused by an honest device.
	ok := "RTSP/1.0 200 OK\r\nCSeq: SEQ\r\n\r\n"
	u, seen = scripted(t, first, ok, ok)
	c := dial(t, u, Options{SignIn: steward})
	for range 2 {
		_, err = c.Do(context.Background(), "GET_PARAMETER", u.String())
		require.NoError(t, err)
	}
	assert.Contains(t, seen(), "nc=00000001")
	assert.Contains(t, seen(), "nc=00000002")
}

func TestFramesAndRequestsBetweenRequestAndAnswer(t *testing.T) {
	u, _ := scripted(t, "$\x00\x00\x02hi"+"OPTIONS * RTSP/1.0\r\nCSeq: 77\r\n\r\n"+"RTSP/1.0 200 OK\r\nCSeq: 999\r\n\r\n"+"$\x01\x00\x01x"+
		"RTSP/1.0 200 OK\r\nCSeq: SEQ\r\nContent-Base: rtsp://base/\r\nContent-Length: 3\r\n\r\nv=0")
	var frames []string
	c := dial(t, u, Options{OnFrame: func(ch byte, b []byte, _ time.Time) { frames = append(frames, fmt.Sprint(ch, string(b))) }})
	d, err := c.Describe(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"0hi", "1x"}, frames)
	assert.Equal(t, "rtsp://base/", d.Base)
}

func TestRedirectsAreFollowedWithinTheScopeOnly(t *testing.T) {
	to, _ := scripted(t, "RTSP/1.0 200 OK\r\nCSeq: SEQ\r\nContent-Length: 3\r\n\r\nv=0")
	u, _ := scripted(t, "RTSP/1.0 302 Moved\r\nCSeq: SEQ\r\nLocation: "+to.String()+"\r\n\r\n")
	d, err := dial(t, u, Options{}).Describe(context.Background())
	require.NoError(t, err)
	assert.Equal(t, to.String(), d.Base)

	out, _ := scripted(t, "RTSP/1.0 302 Moved\r\nCSeq: SEQ\r\nLocation: rtsp://127.99.0.1/x\r\n\r\n")
	_, err = dial(t, out, Options{}).Describe(context.Background())
	assert.ErrorAs(t, err, new(*address.OutOfScopeError))

	nowhere, _ := scripted(t, "RTSP/1.0 302 Moved\r\nCSeq: SEQ\r\n\r\n")
	_, err = dial(t, nowhere, Options{}).Describe(context.Background())
	assert.ErrorAs(t, err, new(*StatusError))
}

func TestSetupReadsWhatTheDeviceGave(t *testing.T) {
	u, seen := scripted(t, "RTSP/1.0 200 OK\r\nCSeq: SEQ\r\nSession: 42 ; timeout=20\r\nTransport: "+
		"RTP/AVP/TCP;unicast;interleaved=6-7\r\n\r\n", "RTSP/1.0 200 OK\r\nCSeq: SEQ\r\n\r\n")
	c := dial(t, u, Options{})
	ch, err := c.Setup(context.Background(), "rtsp://h/x/track1", 0)
	require.NoError(t, err)
	assert.EqualValues(t, 6, ch)
	assert.Equal(t, 20*time.Second, c.timeout)
	require.NoError(t, c.Play(context.Background(), "rtsp://h/x"))
	assert.Contains(t, seen(), "Session: 42\r\n")
}

func TestSilenceHasItsOwnError(t *testing.T) {
	u, _ := scripted(t, "")
	_, err := dial(t, u, Options{}).Describe(context.Background())
	var silent *SilentError
	require.ErrorAs(t, err, &silent)
	assert.Contains(t, silent.Waiting, "DESCRIBE")

	ctx, cancel := context.WithCancel(context.Background())
	u, _ = scripted(t, "")
	c := dial(t, u, Options{})
	time.AfterFunc(20*time.Millisecond, cancel)
	_, err = c.Describe(ctx)
	assert.True(t, errors.Is(err, context.Canceled), "%v", err)
}

func TestExchangeHoldsNoSecret(t *testing.T) {
	u, _ := scripted(t, "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Basic realm=\"r\"\r\n\r\n",
		"RTSP/1.0 403 Forbidden\r\nCSeq: SEQ\r\n\r\n")
	log := exchange.NewLog(nil)
	_, err := dial(t, u, Options{SignIn: steward, Leave: signin.Policy{Agreed: signin.InClear}.Leave, Log: log}).Describe(context.Background())
	assert.ErrorAs(t, err, new(*StatusError))
	assert.Contains(t, log.String(), "Authorization: Basic •••")
	assert.NotContains(t, log.String(), "c3Rld2FyZDp0YXJu")
}

// Each time that a sign-in goes out leave is asked for it, with its scheme, and told what came of it. Without leave nothing goes out.
func TestLeaveIsAskedForEachSending(t *testing.T) {
	stale := "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"2\", stale=true\r\n\r\n"
	u, _ := scripted(t, "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"1\"\r\n\r\n", stale,
		"RTSP/1.0 404 No\r\nCSeq: SEQ\r\n\r\n")
	var asked []signin.Sending
	var told []error
	leave := func(_ context.Context, s signin.Sending) (func(error), error) {
		asked = append(asked, s)
		return func(err error) { told = append(told, err) }, nil
	}
	_, err := dial(t, u, Options{SignIn: steward, Leave: leave}).Describe(context.Background())
	assert.ErrorAs(t, err, new(*StatusError))
	at := signin.Channel{Scheme: "rtsp", At: u.HostPort()}
	assert.Equal(t, []signin.Sending{{Scheme: "digest MD5", Channel: at}, {Scheme: "digest MD5", Channel: at, Renewed: true}}, asked,
		"the renewed one too")
	require.Len(t, told, 2)
	assert.ErrorIs(t, told[0], signin.ErrStale)
	assert.NoError(t, told[1], "a path that is not there says nothing against the sign-in")

	for name, answer := range map[string]string{"a stranger that wants the password": `Basic realm="r"`,
		"and one that names a digest that nobody can answer": `Digest realm="r", nonce=""` + "\r\nWWW-Authenticate: Basic realm=\"r\""} {
		u, seen := scripted(t, "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: "+answer+"\r\n\r\n")
		_, err := dial(t, u, Options{SignIn: steward}).Describe(context.Background())
		assert.ErrorAs(t, err, new(*signin.ReadableError), name)
		assert.NotContains(t, seen(), "Authorization", name)
	}

	// Stale, and weaker at once: it is no reason to send it again.
	u, seen := scripted(t, "RTSP/1.0 401 U\r\nCSeq: SEQ\r\nWWW-Authenticate: Digest realm=\"r\", nonce=\"1\", algorithm=SHA-256\r\n\r\n",
		stale)
	_, err = dial(t, u, Options{SignIn: steward}).Describe(context.Background())
	assert.ErrorAs(t, err, new(*AuthError))
	assert.Equal(t, 1, strings.Count(seen(), "Authorization"))
}

// What a device does in place of answering is said as it was.
func TestNoAnswerIsToldApart(t *testing.T) {
	silent := func(answer string) *SilentError {
		u, _ := scripted(t, answer)
		_, err := dial(t, u, Options{}).Describe(context.Background())
		var s *SilentError
		require.ErrorAs(t, err, &s, "%v", err)
		return s
	}
	assert.Equal(t, [2]int64{0, 0}, [2]int64{silent("").Bytes, int64(silent("").Requests)})
	assert.Positive(t, silent("RTSP/1.0 200 OK\r\nCS").Bytes, "a beginning that is not finished")
	assert.Equal(t, 2, silent("OPTIONS * RTSP/1.0\r\nCSeq: 9\r\n\r\nOPTIONS * RTSP/1.0\r\nCSeq: 10\r\n\r\n").Requests, "requests of its own")
}

// More datagrams than are taken are bounded by their bytes, too: large ones before PLAY would fill the memory of a site's worth of jobs.
func TestWaitingDatagramsAreBoundedByBytes(t *testing.T) {
	socket, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 41, 4, 1)})
	require.NoError(t, err)
	d := &datagrams{from: netip.MustParseAddr("127.41.4.2"), wake: make(chan struct{}, 1)}
	d.listen(0, socket)
	defer d.close()
	out, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 41, 4, 2)}, socket.LocalAddr().(*net.UDPAddr))
	require.NoError(t, err)
	defer out.Close()
	big := make([]byte, 60_000)
	full := func() bool {
		for range 20 {
			out.Write(big)
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.bytes > maxWaitingBytes-len(big)
	}
	require.Eventually(t, full, 10*time.Second, time.Millisecond)
	for range 5 {
		full()
	}
	d.mu.Lock()
	assert.LessOrEqual(t, d.bytes, maxWaitingBytes)
	d.mu.Unlock()
	assert.True(t, d.deliver(nil))
	assert.Zero(t, d.bytes, "what is taken makes room")
}

// A redirect out of TLS could come from whoever stands between: it is not followed, and the sign-in goes nowhere.
func TestNoRedirectLeadsOutOfTLS(t *testing.T) {
	c := &Conn{url: streamurl.URL{Scheme: "rtsps", Host: "127.41.4.1"},
		opt: Options{Dial: &address.Guard{Allowed: address.MustParse("127.41.4.0/24")}, SignIn: steward}}
	err := c.follow(context.Background(), &Response{Status: 302, Header: Header{{"Location", "rtsp://127.41.4.1/x"}}}, 0)
	var down *DowngradeError
	require.ErrorAs(t, err, &down)
	assert.Equal(t, "rtsp://127.41.4.1/x", down.To)
	assert.Nil(t, c.conn, "nothing was connected to")
}

func FuzzParseGroup(f *testing.F) {
	f.Add("RTP/AVP;multicast;destination=239.1.2.3;port=5000-5001;ttl=16")
	f.Add("destination=::1;port=99999")
	f.Fuzz(func(t *testing.T, text string) {
		if g, port, ok := parseGroup(text); ok && (!g.IsMulticast() || port < 1 || port > 65534) {
			t.Fatalf("%s %d", g, port)
		}
	})
}

func FuzzReadResponse(f *testing.F) {
	f.Add([]byte("RTSP/1.0 200 OK\r\nCSeq: 1\r\nContent-Length: 2\r\n\r\nab"))
	f.Add([]byte("RTSP/1.0 401 U\r\n folded\r\nWWW-Authenticate: Digest\r\n\r\n"))
	f.Add([]byte("\r\n\r\nRTSP/1.0 200\r\n\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := ReadResponse(bufio.NewReader(bytes.NewReader(b)))
		if err != nil {
			return
		}
		again, err := ReadResponse(bufio.NewReader(bytes.NewReader(p.Bytes())))
		if err != nil || again.Status != p.Status || !bytes.Equal(again.Body, p.Body) {
			t.Fatalf("%q does not survive: %v", b, err)
		}
	})
}

func FuzzReadRequest(f *testing.F) {
	f.Add([]byte("SETUP rtsp://h/x RTSP/1.0\r\nCSeq: 1\r\n\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) { ReadRequest(bufio.NewReader(bytes.NewReader(b))) })
}
