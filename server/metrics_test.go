package server

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store/storetest"
)

// Metrics are there for who has the token, and name nothing of the customer's.
func TestMetricsWantTheirToken(t *testing.T) {
	t.Parallel()
	p, s, _ := serveWith(t, storetest.URL(t), Config{MetricsToken: "watchman-5512"})
	p.setUp()
	newShed(t, p, s, 3)
	p.problem("no_token", "GET", "/metrics", nil)
	p.problem("no_token", "GET", "/metrics", nil, "Authorization", "Bearer watchman-551")
	status, text, _ := p.do("GET", "/metrics", nil, "Authorization", "Bearer watchman-5512")
	require.Equal(t, 200, status, text)
	assert.Contains(t, text, `unlatch_devices{at="reachable",kind="camera"} 3`)
	assert.Contains(t, text, `unlatch_build_info{go="`+runtime.Version()+`",revision="`)
	assert.Contains(t, text, `unlatch_sites{reached="false"} 1`)
	assert.Contains(t, text, `unlatch_http_request_seconds_count{method="POST",route="/api/sites",status="201"} 1`)
	assert.Contains(t, text, "go_goroutines")
	for _, name := range []string{"Shed", "192.0.2", "keeper", "urn:", "watchman"} {
		assert.NotContains(t, text, name)
	}
	without, _, _ := serve(t, storetest.URL(t))
	status, _, _ = without.do("GET", "/metrics", nil, "Authorization", "Bearer ")
	assert.Equal(t, 404, status)
}
