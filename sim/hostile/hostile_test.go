package hostile_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/url"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/media"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/picture"
	"unlatch/core/work/prove"
	"unlatch/sim/hostile"
)

const (
	secret = "Lamp&Room/Key"
	// Each ends within this time, patience for one answer included, and takes no more than this memory on the way.
	within = 25 * time.Second
	memory = 64 << 20
)

var (
	fitter = signin.SignIn{User: "fitter", Secret: signin.NewSecret(secret)}
	guard  = &address.Guard{Allowed: address.MustParse("127.48.0.0/16")}
)

// Every hostile device ends in time, in little memory, with the diagnosis that is true of it, and gets no secret.
func TestEachEndsWithItsRightDiagnosis(t *testing.T) {
	all := hostile.All()
	require.Greater(t, len(all), 40)
	for i, d := range all {
		t.Run(string(d.Speaks)+" "+d.Name, func(t *testing.T) {
			r, err := d.Start(fmt.Sprintf("127.48.1.%d", i+1))
			require.NoError(t, err)
			defer r.Stop()
			ctx, cancel := context.WithTimeout(context.Background(), within)
			defer cancel()
			used := peak(t, func() { check(ctx, t, r) })
			require.NoError(t, ctx.Err(), "it did not end in time")
			assert.Less(t, used, uint64(memory), "%d MB", used>>20)
			for _, form := range forms(secret) {
				assert.NotContains(t, r.Got(), form, "the device got the secret")
			}
			assert.NotEmpty(t, r.Got(), "it was asked at all")
		})
	}
}

// check does with a device what the work of a site would do, and looks at what came of it.
func check(ctx context.Context, t *testing.T, r *hostile.Running) {
	log := exchange.NewLog(nil)
	var err error
	var got *diagnose.Diagnosis
	switch r.Speaks {
	case hostile.DeviceService:
		err = ask(ctx, t, r, log)
	case hostile.Web:
		f := &picture.Fetcher{Dial: guard, SignIn: fitter, Timeout: time.Second, Log: log}
		_, err = f.Fetch(ctx, "http://"+r.Addr+"/still.jpg")
	case hostile.Streams:
		u, perr := streamurl.Parse("rtsp://" + r.Addr + "/x")
		require.NoError(t, perr)
		p := prove.Prover{Dial: guard, Still: media.Still}
		proof := p.Prove(ctx, prove.Request{URL: u, SignIn: fitter, Timeout: time.Second, Patience: 2 * time.Second})
		got = proof.Diagnosis
		assert.NotContains(t, proof.Exchange, secret)
		assert.Less(t, len(proof.Exchange), 256<<10)
	}
	if err != nil {
		d := diagnose.Explain(err, diagnose.Facts{Host: "127.48.1.1", Port: 1, Asking: "the device", User: "fitter"})
		got = &d
	}
	assert.NotContains(t, log.String(), secret)
	if r.Want == "" {
		require.Nil(t, got, "%+v\n%s", got, log)
		return
	}
	require.NotNil(t, got, "nothing was found to be wrong")
	assert.Equal(t, r.Want, got.Cause, "%+v\n%.2000s", got, log)
	assert.NotEmpty(t, got.Fix)
	for _, text := range []string{got.Summary, got.Fix, got.Seen} {
		assert.False(t, strings.ContainsFunc(text, func(r rune) bool { return r != '\n' && wiretext.Harmful(r) }), "%q", text)
	}
}

// ask signs in to a device service and asks for its streams.
func ask(ctx context.Context, t *testing.T, r *hostile.Running, log *exchange.Log) error {
	c := onvif.New("http://"+r.Addr+"/onvif/device_service", onvif.Options{Dial: guard, SignIn: fitter, Timeout: time.Second, Log: log})
	defer c.Close()
	if _, err := c.Clock(ctx); err != nil {
		return err
	}
	info, err := c.Info(ctx)
	if err != nil && r.Want != "" {
		return err
	}
	for _, text := range []string{info.Manufacturer, info.Model} {
		assert.False(t, strings.ContainsFunc(text, wiretext.Harmful), "%q", text)
	}
	streams, err := c.Profiles(ctx)
	if err != nil {
		return err
	}
	for _, s := range streams {
		if err := c.StreamURL(ctx, &s); err != nil {
			return err
		}
		assert.NotContains(t, s.URL, "Lamp-Room-Key", "a password that a device names in a URL is not kept")
		assert.Contains(t, s.URL, "channel=1", "and the rest is")
		assert.Contains(t, s.Corrected, "a password in its query")
	}
	assert.NotContains(t, log.String(), "Lamp-Room-Key")
	return nil
}

// forms returns the spellings in which a secret could go over a wire.
func forms(s string) []string {
	return []string{s, url.QueryEscape(s), url.PathEscape(s), strings.ReplaceAll(url.QueryEscape(s), "+", "%20"),
		base64.StdEncoding.EncodeToString([]byte(s)), base64.StdEncoding.EncodeToString([]byte("fitter:" + s))}
}

// peak runs fn and returns by how much the heap grew at most meanwhile.
func peak(t *testing.T, fn func()) uint64 {
	t.Helper()
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	before, most := m.HeapInuse, m.HeapInuse
	done := make(chan struct{})
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			select {
			case <-done:
				return
			case <-time.After(10 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most = max(most, m.HeapInuse)
			}
		}
	}()
	fn()
	close(done)
	<-stopped
	return most - before
}

// Twenty-four jobs of the worst kind at once stay within bounds: so many run in a worker.
func TestManyAtOnceStayWithinMemory(t *testing.T) {
	var worst []hostile.Device
	for _, d := range hostile.All() {
		if strings.Contains(d.Name, "flood") || strings.Contains(d.Name, "without end") || strings.Contains(d.Name,
			"10 GB") || strings.Contains(d.Name, "never ends") || strings.Contains(d.Name, "bomb") {
			worst = append(worst, d)
		}
	}
	require.Greater(t, len(worst), 8)
	var running []*hostile.Running
	for i := range 24 {
		r, err := worst[i%len(worst)].Start(fmt.Sprintf("127.48.2.%d", i+1))
		require.NoError(t, err)
		defer r.Stop()
		running = append(running, r)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	used := peak(t, func() {
		ended := make(chan struct{})
		for _, r := range running {
			go func() { check(ctx, t, r); ended <- struct{}{} }()
		}
		for range running {
			<-ended
		}
	})
	require.NoError(t, ctx.Err())
	assert.Less(t, used, uint64(400<<20), "%d MB", used>>20)
}
