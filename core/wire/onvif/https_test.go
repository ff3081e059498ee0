package onvif_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/wire/onvif"
)

const clock = `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><r><SystemDateAndTime><UTCDateTime><Time>` +
	`<Hour>1</Hour><Minute>1</Minute>` +
	`<Second>1</Second></Time><Date><Year>2026</Year><Month>3</Month><Day>14</Day></Date></UTCDateTime></SystemDateAndTime></r>` +
	`</s:Body></s:Envelope>`

// A redirect from plain HTTP to TLS on the same host is followed, and no other.
func TestRedirects(t *testing.T) {
	var private atomic.Int64
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		private.Add(1)
		w.Write([]byte(clock))
	}))
	defer secure.Close()
	var to string
	var plain atomic.Int64
	open := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		plain.Add(1)
		http.Redirect(w, r, to, http.StatusTemporaryRedirect)
	}))
	defer open.Close()
	ask := func(pin string) (*onvif.Client, error) {
		c := onvif.New(open.URL+"/onvif/device_service", onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")},
			Pin: pin, Timeout: time.Second})
		_, err := c.Clock(context.Background())
		return c, err
	}
	to = secure.URL + "/onvif/device_service"
	c, err := ask("")
	require.NoError(t, err)
	assert.Equal(t, to, c.Address())
	require.NotNil(t, c.Certificate())
	_, err = c.Clock(context.Background())
	require.NoError(t, err)
	assert.Equal(t, int64(1), plain.Load(), "the plain port is asked once")
	assert.Equal(t, int64(2), private.Load())

	_, err = ask(strings.Repeat("ab", 32))
	assert.ErrorAs(t, err, new(*certificate.ChangedError))
	assert.Equal(t, int64(2), private.Load(), "nothing was sent to another certificate")
	for name, target := range map[string]string{
		"another host":          strings.Replace(to, "127.0.0.1", "127.0.0.2", 1),
		"itself":                open.URL + "/onvif/device_service",
		"nowhere":               "https://",
		"a name of its own":     "https://localhost:8443/",
		"not a URL":             "%zz",
		"another kind of thing": "ftp://127.0.0.1/",
	} {
		to = target
		_, err := ask("")
		assert.Error(t, err, name)
	}
	assert.Equal(t, int64(2), private.Load())
}
