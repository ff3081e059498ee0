package prove_test

import (
	"fmt"
	"net/http"
	"os/exec"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/work/prove"
	"unlatch/sim/simtest"
)

// still is a JPEG with something to see.
func still(t *testing.T) []byte {
	raw, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=size=320x184:rate=1", "-frames:v", "1", "-f", "image2",
		"-c:v", "mjpeg", "pipe:1").Output()
	require.NoError(t, err)
	return raw
}

// Pictures that come by HTTP are proven as any stream is. What is wrong is said.
func TestStreamsByHTTP(t *testing.T) {
	t.Parallel()
	picture := still(t)
	carried, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=size=320x180:rate=10", "-t", "30", "-c:v", "libx264",
		"-preset", "ultrafast", "-g", "10", "-f", "mpegts", "pipe:1").Output()
	require.NoError(t, err)
	send := func(w http.ResponseWriter, parts ...string) bool {
		for _, p := range parts {
			if _, err := w.Write([]byte(p)); err != nil {
				return false
			}
		}
		return http.NewResponseController(w).Flush() == nil
	}
	// motion sends a picture ten times a second behind what between returns.
	motion := func(kind string, most int, between func(n int) string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", kind)
			for i := 0; r.Context().Err() == nil && i < most && send(w, between(i), string(picture)); i++ {
				time.Sleep(100 * time.Millisecond)
			}
		}
	}
	const cut = "multipart/x-mixed-replace; boundary=cut"
	part := func(int) string {
		return "--cut\r\nContent-Type: image/jpeg\r\nContent-Length: " + strconv.Itoa(len(picture)) + "\r\n\r\n"
	}
	for name, c := range map[string]struct {
		serve http.HandlerFunc
		cause trouble.Cause // "" where it is proven
		how   string
		fps   float64
	}{
		"motion JPEG":          {motion(cut, 1000, part), "", "http", 10},
		"without a boundary":   {motion("multipart/x-mixed-replace", 1000, func(int) string { return "\r\n" }), "", "http", 10},
		"without any boundary": {motion("application/octet-stream", 1000, func(int) string { return "" }), "", "http", 10},
		"stills":               {func(w http.ResponseWriter, _ *http.Request) { w.Write(picture) }, "", "http pictures", 1},
		"stills without a length": {func(w http.ResponseWriter, _ *http.Request) { send(w, string(picture[:99]), string(picture[99:])) }, "",
			"http pictures", 1},
		"a transport stream": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "video/MP2T")
			for b := carried; len(b) > 1000 && send(w, string(b[:1000])); b = b[1000:] {
				time.Sleep(30 * time.Second * 1000 / time.Duration(len(carried)))
			}
		}, "", "mpeg-ts over http", 10},
		"turns into a page": {motion(cut, 1000, func(n int) string {
			if n > 30 {
				return "--cut\r\n\r\n<html>"
			}
			return part(n)
		}), "", "http", 10},
		"is a page": {func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("<!DOCTYPE html><title>Sign in</title>")) },
			trouble.NotPicture, "http", 0},
		"a page in place of pictures": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", cut)
			send(w, "--cut\r\n\r\n<html><body>Sign in</body></html>")
		}, trouble.NotPicture, "http", 0},
		"100 MB a picture": {func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", cut)
			for more := send(w, part(0), "\xff\xd8\xff\xda\x00\x02"); more && r.Context().Err() == nil; {
				more = send(w, fmt.Sprintf("%65536d", 7))
			}
		}, trouble.NotPicture, "http", 0},
		"says nothing": {func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", cut)
			send(w, "\r\n")
			<-r.Context().Done()
		}, trouble.NoPackets, "http", 0},
		"ends before the first picture": {motion(cut, 0, part), trouble.NotPicture, "http", 0},
		"wants the password readable": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
		}, trouble.Readable, "http", 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			u, err := streamurl.Parse(simtest.Serve(t, "127.41.62.7", c.serve))
			require.NoError(t, err)
			prover := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.41.62.0/24")}, Still: media.Still}
			patience := 20 * time.Second // for a busy machine; what is silent is waited for in vain
			if c.cause == trouble.NoPackets {
				patience = 2 * time.Second
			}
			request := prove.Request{URL: u, SignIn: fitter, Timeout: patience}
			if c.fps == 1 {
				request.Measure = 5 * time.Second // several pictures, of which a busy machine misses some
			}
			p := prover.Prove(t.Context(), request)
			assert.NotContains(t, p.Exchange, fitter.Secret.Reveal())
			assert.Equal(t, c.how, p.Transport)
			if c.cause != "" {
				require.NotNil(t, p.Diagnosis)
				assert.Equal(t, c.cause, p.Diagnosis.Cause, "%+v", p.Diagnosis)
				return
			}
			require.True(t, p.OK, "%+v\n%s", p.Diagnosis, p.Exchange)
			assert.Equal(t, 320, p.Video.Width)
			assert.NotEmpty(t, p.Still)
			assert.Positive(t, p.Video.FPS)
			assert.Less(t, p.Video.FPS, c.fps*1.2, "it counts arrivals: a busy machine measures less than is sent, and never more")
		})
	}
}
