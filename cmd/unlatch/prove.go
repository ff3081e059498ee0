package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
	"unlatch/core/work/prove"
)

func proveCommand() *cobra.Command {
	var user, still string
	var fromStdin, asJSON, exchange bool
	var seconds float64
	c := &cobra.Command{
		Use: "prove URL", Short: "Play a stream URL and measure what comes",
		Long: "Prove plays an RTSP URL, motion JPEG, pictures or a transport stream by HTTP, or listens to a transport stream in datagrams\n" +
			"(udp://@239.1.2.4:20000, rtp:// for one within RTP), and reports codec, size, frame rate, bitrate and key-frame\n" +
			"interval as measured, or why no picture came.\n" +
			"Exit 0 when a picture was proven, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("prove takes one URL, such as rtsp://192.0.2.20/path")}
			}
			u, err := streamurl.Parse(args[0])
			if err != nil {
				return usageError{err}
			}
			if seconds < 0 || seconds > 600 {
				return usageError{errors.New("--seconds takes a number from 0 to 600")}
			}
			in, err := readSignIn(cmd, user, fromStdin)
			if err != nil {
				return usageError{err}
			}
			proof := proveURL(cmd.Context(), prove.Request{URL: u, SignIn: in, Timeout: 10 * time.Second,
				Measure: time.Duration(seconds * float64(time.Second))})
			if still != "" && proof.Still != nil {
				if err := os.WriteFile(still, proof.Still, 0o644); err != nil {
					return err
				}
			}
			if asJSON {
				err = encode(cmd.OutOrStdout(), provenStream{proof, findings(proof)})
			} else {
				printProof(cmd.OutOrStdout(), proof)
			}
			if exchange {
				fmt.Fprint(cmd.ErrOrStderr(), proof.Exchange)
			}
			if err == nil && !proof.OK {
				err = errNo
			}
			return err
		},
	}
	c.Flags().StringVar(&user, "user", "", "user name, where the URL has none")
	c.Flags().BoolVar(&fromStdin, "password-stdin", false, "read the password from standard input")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	c.Flags().Float64Var(&seconds, "seconds", 0, "measure for so long after the first key frame (0: two key-frame intervals, at least 2 "+
		"s, at most 12 s)")
	c.Flags().StringVar(&still, "still", "", "write the picture to this JPEG file")
	c.Flags().BoolVar(&exchange, "exchange", false, "print the whole exchange, passwords redacted, to standard error")
	return c
}

// readSignIn takes the password from standard input or asks for it; it is never an argument, where others could read it.
func readSignIn(cmd *cobra.Command, user string, fromStdin bool) (signin.SignIn, error) {
	in := signin.SignIn{User: user}
	switch {
	case fromStdin && user == "":
		return in, errors.New("--password-stdin needs --user")
	case fromStdin:
		line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
		if err != nil && err != io.EOF {
			return in, err
		}
		in.Secret = signin.NewSecret(strings.TrimRight(line, "\r\n"))
	case user != "" && term.IsTerminal(int(os.Stdin.Fd())):
		fmt.Fprint(cmd.ErrOrStderr(), "Password: ")
		raw, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		if err != nil {
			return in, err
		}
		in.Secret = signin.NewSecret(string(raw))
	}
	return in, nil
}

// proveURL lets out connections to the URL's own host and to nothing else.
func proveURL(ctx context.Context, req prove.Request) proof.Proof {
	var allowed []string
	if req.URL.Datagrams() { // nothing is sent: whoever sends is listened to
		allowed = append(allowed, "0.0.0.0/0")
	} else if addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", req.URL.Host); err == nil {
		for _, a := range addrs {
			allowed = append(allowed, a.Unmap().WithZone("").String())
		}
	}
	ranges, err := address.Parse(allowed...)
	if err != nil {
		ranges = address.Ranges{}
	}
	// Whoever names one URL and one sign-in on a command line has agreed to send the one to the other, in whatever scheme it wants.
	req.Leave = signin.Policy{Agreed: signin.InClear}.Leave
	p := prove.Prover{Dial: &address.Guard{Allowed: ranges}, Still: media.Still}
	return p.Prove(ctx, req)
}

// A provenStream is a proof with what an installer should act on.
type provenStream struct {
	proof.Proof
	Findings []diagnose.Diagnosis `json:"findings,omitempty"`
}

// findings are what an installer should act on at a stream of which nobody knows what its device claims.
func findings(p proof.Proof) []diagnose.Diagnosis {
	return append(diagnose.Stream(p.Video, p.Audio, p.Transport, camera.Settings{}), diagnose.TransportStream(p.TransportStream)...)
}

func printProof(w io.Writer, p proof.Proof) {
	fmt.Fprintln(w, p.URL)
	if v := p.Video; v != nil {
		fmt.Fprintf(w, "  picture    %s %s, %d x %d\n", v.Codec, v.Profile, v.Width, v.Height)
		fmt.Fprintf(w, "  measured   %.4g fps, %.0f kbit/s, ", v.FPS, v.BitrateKbps)
		if v.GOPSeconds > 0 {
			fmt.Fprintf(w, "key frame every %.3g s", v.GOPSeconds)
		} else {
			fmt.Fprintf(w, "one key frame in %.1f s", float64(v.MeasuredForMS)/1000)
		}
		fmt.Fprintf(w, ", %d of %d packets lost\n", v.Lost, v.Lost+v.Packets)
	}
	if a := p.Audio; a != nil {
		fmt.Fprintf(w, "  audio      %s, %d Hz", a.Codec, a.SampleRate)
		if a.LevelDBFS != nil {
			fmt.Fprintf(w, ", %.0f dBFS", *a.LevelDBFS)
		}
		fmt.Fprintln(w)
	}
	if ts := p.TransportStream; ts != nil {
		fmt.Fprintf(w, "  carried    transport stream, program %d, %.0f kbit/s, %d of %d packets lost", ts.Program, ts.BitrateKbps, ts.Lost,
			ts.Lost+ts.Packets)
		if ts.PCRMostMS > 0 {
			fmt.Fprintf(w, ", clock reference every %.0f ms at most", ts.PCRMostMS)
		}
		fmt.Fprintln(w)
	}
	if m := p.Metadata; m != nil {
		fmt.Fprintf(w, "  metadata   %d documents: %s\n", m.Documents, strings.Join(m.Kinds, ", "))
	}
	fmt.Fprintf(w, "  sign-in    %s, over %s", p.Auth, p.Transport)
	if p.Auth == "basic" && p.TLS == nil {
		fmt.Fprint(w, " (the password went out readable)")
	}
	if p.Server != "" {
		fmt.Fprintf(w, ", server %s", p.Server)
	}
	fmt.Fprintln(w)
	for _, s := range p.Steps {
		fmt.Fprintf(w, "  %9.1f ms  %s\n", s.MS, s.Name)
	}
	if d := p.Diagnosis; d != nil {
		fmt.Fprintf(w, "No picture: %s\nWhat to do: %s\nSeen: %s\n", d.Summary, d.Fix, d.Seen)
		return
	}
	fmt.Fprintf(w, "Proven: first key frame after %.0f ms\n", p.FirstKeyframeMS)
	for _, f := range findings(p) {
		fmt.Fprintf(w, "- %s %s\n", f.Summary, f.Fix)
	}
}
