package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"unlatch/client"
	"unlatch/core/ground/release"
	"unlatch/server"
)

// A remote is a command that asks a server rather than devices.
type remote struct {
	*client.Client
	cmd    *cobra.Command
	asJSON bool
}

// A login is the server that commands ask, with the token that they show it.
type login struct {
	Server string `json:"server"`
	Token  string `json:"token"`
	CA     string `json:"ca,omitempty"` // file of certificates to trust besides the machine's own
}

// loginFile returns where a login is kept for the next commands.
func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "unlatch", "login.json"), err
}

// currentLogin returns the login of the environment, else the one that is kept.
func currentLogin() (login, error) {
	if at := os.Getenv("UNLATCH_SERVER"); at != "" {
		return login{Server: at, Token: os.Getenv("UNLATCH_TOKEN"), CA: os.Getenv("UNLATCH_CA")}, nil
	}
	file, err := loginFile()
	if err != nil {
		return login{}, err
	}
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return login{}, usageError{errors.New("say which server: unlatch login https://…, or set UNLATCH_SERVER and UNLATCH_TOKEN")}
	}
	var l login
	if err == nil {
		err = json.Unmarshal(raw, &l)
	}
	if err != nil {
		return l, fmt.Errorf("%s cannot be read: %w", file, err)
	}
	return l, nil
}

// client returns a client of the login's server.
func (l login) client() (*client.Client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if l.CA != "" {
		pem, err := os.ReadFile(l.CA)
		if err != nil {
			return nil, err
		}
		roots, err := x509.SystemCertPool()
		if err != nil {
			roots = x509.NewCertPool()
		}
		if !roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", l.CA)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: roots}
	}
	c, err := client.New(l.Server, l.Token, server.OpenAPI, transport)
	if err != nil {
		return nil, usageError{err}
	}
	return c, nil
}

// onServer makes a command that asks the server. run gets the arguments that the person gave.
func onServer(c *cobra.Command, run func(ctx context.Context, r *remote, args []string) error) *cobra.Command {
	var asJSON bool
	if c.Flags().Lookup("json") == nil {
		c.Flags().BoolVar(&asJSON, "json", false, "print what the server answers, as JSON")
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		r, err := connect(cmd)
		if err != nil {
			return err
		}
		return explainVersion(cmd.Context(), r, run(cmd.Context(), r, args))
	}
	return c
}

// connect returns the remote of a command.
func connect(cmd *cobra.Command) (*remote, error) {
	l, err := currentLogin()
	if err != nil {
		return nil, err
	}
	c, err := l.client()
	asJSON, _ := cmd.Flags().GetBool("json")
	return &remote{c, cmd, asJSON}, err
}

// explainVersion adds to an error that the server is of another version, where it is: what one of them does not know then needs no other
// explanation.
func explainVersion(ctx context.Context, r *remote, err error) error {
	var p *client.ProblemError
	if err == nil || errors.Is(err, errNo) || errors.Is(err, client.ErrAway) || errors.As(err, new(usageError)) ||
		errors.As(err, &p) && p.Cause != "no_route" && p.Status != http.StatusUnprocessableEntity {
		return err
	}
	version, verr := r.Version(ctx)
	if verr != nil || version == release.Version {
		return err
	}
	return fmt.Errorf("%w (the server is version %s and this program %s: take the program from the server's own release)", err, version,
		release.Version)
}

func loginCommand() *cobra.Command {
	var ca string
	c := &cobra.Command{
		Use: "login URL", Short: "Say which server the commands ask, with an API token from standard input",
		Long: "Login keeps a server's address and an API token for the commands that ask a server. The token is read from standard\n" +
			"input: make one on the page Your account. UNLATCH_SERVER, UNLATCH_TOKEN and UNLATCH_CA go before what is kept.\n" +
			"Exit 0 when the server takes the token, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("name the server, such as https://unlatch.example:8443")}
			}
			l := login{Server: args[0], CA: ca}
			if _, err := l.client(); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "API token (made at %s/account): ", strings.TrimRight(l.Server, "/"))
			line, err := bufio.NewReader(io.LimitReader(cmd.InOrStdin(), 1000)).ReadString('\n')
			if l.Token = strings.TrimSpace(line); l.Token == "" {
				return usageError{errors.Join(errors.New("no API token was given"), ignoreEOF(err))}
			}
			return l.keep(cmd)
		},
	}
	c.Flags().StringVar(&ca, "ca", "", "file of certificates to trust besides the machine's own")
	return c
}

func ignoreEOF(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// keep tries the login and keeps it.
func (l login) keep(cmd *cobra.Command) error {
	c, err := l.client()
	if err != nil {
		return err
	}
	if l.CA != "" {
		if l.CA, err = filepath.Abs(l.CA); err != nil {
			return err
		}
	}
	var who struct{ Name, Role, Token string }
	if _, err := c.Version(cmd.Context()); err != nil {
		return err
	}
	if _, err := c.Call(cmd.Context(), "get-session", client.Params{}, nil, &who); err != nil {
		return err
	}
	file, err := loginFile()
	if err == nil {
		err = os.MkdirAll(filepath.Dir(file), 0o700)
	}
	if err != nil {
		return err
	}
	raw, err := json.Marshal(l)
	if err == nil {
		err = writePrivate(file, raw)
	}
	if err == nil {
		fmt.Fprintf(cmd.OutOrStdout(), "Signed in to %s as %s (%s) with the token %q.\n", l.Server, who.Name, who.Role, who.Token)
	}
	return err
}

// writePrivate writes a file that its owner alone can read, whole or not at all.
func writePrivate(file string, raw []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".login-*") // with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(raw); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), file)
}

func logoutCommand() *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "Forget the server and the token that login has kept", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			file, err := loginFile()
			if err == nil {
				err = os.Remove(file)
			}
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err == nil {
				fmt.Fprintln(cmd.OutOrStdout(), "Forgotten. The token is good still: revoke it on the page Your account.")
			}
			return err
		}}
}

// print prints an answer: as it came for --json, else as table makes it.
func (r *remote) print(raw []byte, table func(w io.Writer) error) error {
	if r.asJSON {
		var out any
		if err := json.Unmarshal(raw, &out); err != nil {
			return err
		}
		enc := json.NewEncoder(r.cmd.OutOrStdout())
		enc.SetIndent("", "  ")
		return enc.Encode(out)
	}
	w := tabwriter.NewWriter(r.cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
	if err := table(w); err != nil {
		return err
	}
	return w.Flush()
}

// of names the parts of a path: of("site", id).
func of(pairs ...string) client.Params {
	p := client.Params{Path: map[string]string{}, Query: url.Values{}}
	for i := 0; i+1 < len(pairs); i += 2 {
		p.Path[pairs[i]] = pairs[i+1]
	}
	return p
}
