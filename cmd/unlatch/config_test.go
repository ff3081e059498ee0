package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/settings"
)

// written makes a configuration file that only its owner may read.
func written(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "unlatch.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// parsed returns the place that a command line of the server describes, without starting anything.
func parsed(t *testing.T, args ...string) (*place, error) {
	t.Helper()
	p := &place{}
	c := &cobra.Command{Use: "serve", SilenceErrors: true, SilenceUsage: true, RunE: func(*cobra.Command, []string) error { return nil }}
	p.flags(c, true)
	c.SetArgs(args)
	return p, c.Execute()
}

func TestAFlagWinsOverTheEnvironmentThatOverACredentialAndThatOverTheFile(t *testing.T) {
	credentials := t.TempDir()
	for name, text := range map[string]string{"public-url": "https://credential.example\n", "listen": "127.0.0.1:3\n",
		"metrics-token": "token\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(credentials, name), []byte(text), 0o600))
	}
	file := written(t, "data: /file\nlisten: 127.0.0.1:4\npublic-url: https://file.example\nname-server: 192.0.2.53:53\ntls: true\n"+
		"trusted-proxy: [192.0.2.1, 192.0.2.2]\nsite: [Elsewhere]\nlog-level: info\noidc-secret: other\n")
	t.Setenv("CREDENTIALS_DIRECTORY", credentials)
	t.Setenv("UNLATCH_LISTEN", "127.0.0.1:2")
	t.Setenv("UNLATCH_DATA", "/environment")
	p, err := parsed(t, "--config", file, "--data", "/flag")
	require.NoError(t, err)
	assert.Equal(t, "/flag", p.data)
	assert.Equal(t, "127.0.0.1:2", p.listen)
	assert.Equal(t, "https://credential.example", p.public)
	assert.Equal(t, "192.0.2.53:53", p.nameServer)
	assert.True(t, p.tls)
	assert.Equal(t, []string{"192.0.2.1", "192.0.2.2"}, p.proxies)
	assert.Equal(t, "INFO", p.level.String())
	assert.Equal(t, flagless{"metrics-token": "token", "oidc-secret": "other"}, p.flagless)

	t.Setenv("UNLATCH_CONFIG", file)
	p, err = parsed(t)
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.53:53", p.nameServer, "the file that the environment names is read")
}

func TestWhatIsWrongInASettingNamesItsPlaceAndNeverASecret(t *testing.T) {
	for text, want := range map[string]string{
		"data: x\nlistne: y\n": `: line 2, column 1: there is no setting "listne"; did you mean listen?`,
		"data: x\n\ttls: true": ": line 2, column 1: the line begins with a tab: YAML is indented by spaces",
	} {
		file := written(t, text)
		_, err := parsed(t, "--config", file)
		assert.EqualError(t, err, file+want)
	}
	_, err := parsed(t, "--config", written(t, "tls: perhaps\n"))
	assert.ErrorContains(t, err, "line 1, column 6: tls: this takes true or false")
	t.Setenv("UNLATCH_TLS", "perhaps")
	_, err = parsed(t)
	assert.ErrorContains(t, err, "the environment variable UNLATCH_TLS: this takes true or false")
	t.Setenv("UNLATCH_TLS", "")

	_, err = parsed(t, "--config", filepath.Join(t.TempDir(), "none.yaml"))
	assert.ErrorContains(t, err, "the configuration file cannot be read")

	open := written(t, "metrics-token: hush-hush\n")
	require.NoError(t, os.Chmod(open, 0o644))
	_, err = parsed(t, "--config", open)
	assert.EqualError(t, err, open+" holds a secret (metrics-token) and may be read by everybody on this machine; run: chmod o= "+open)
	require.NoError(t, os.Chmod(open, 0o640))
	_, err = parsed(t, "--config", open)
	assert.NoError(t, err)
}

func TestConfigCheckSaysWhetherAFileIsRight(t *testing.T) {
	code, out, _ := unlatch("", "config", "check", written(t, "listen: 127.0.0.1:8471\nserver: https://bench.example\n"))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "is right: it sets listen, server.")
	code, out, _ = unlatch("", "config", "check", written(t, "# nothing\n"))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "it sets nothing")
	for text, want := range map[string]string{
		"public-url: bench\n":                           "--public-url takes an address",
		"tls-cert: /a\n":                                "--tls-cert and --tls-key go together",
		"log-level: loud\n":                             "line 1, column 12: log-level",
		"name-server: 192.0.2.53\n":                     "--name-server: write it as address and port",
		"oidc-issuer: https://x\noidc-role: [a=king]\n": "--oidc-role takes a value and a role",
	} {
		code, _, complaint := unlatch("", "config", "check", written(t, text))
		assert.Equal(t, 2, code, text)
		assert.Contains(t, complaint, want)
	}
	code, _, complaint := unlatch("", "config", "check")
	assert.Equal(t, 2, code)
	assert.Contains(t, complaint, "check takes one file")
}

func TestConfigWriteNamesEverySettingAndSetsNone(t *testing.T) {
	code, out, _ := unlatch("", "config", "write")
	assert.Equal(t, 0, code)
	for _, name := range []string{"data", "database", "listen", "site", "server", "metrics-token", "oidc-secret", "log-format"} {
		assert.Contains(t, out, "\n#"+name+":")
	}
	assert.NotContains(t, out, "\n#config:")
	values, err := settings.Read([]byte(out), knownSettings())
	require.NoError(t, err)
	assert.Empty(t, values)
	code, _, _ = unlatch("", "config", "check", written(t, out))
	assert.Equal(t, 0, code)
}
