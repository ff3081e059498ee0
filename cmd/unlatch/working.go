package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unlatch/client"
)

// A runRow is a run as commands read it, with the devices that the act left out.
type runRow struct {
	ID, Kind, Title, State, Doing, Problem string
	Done, Total                            int64
	Left                                   []struct{ Device, Name, Reason, Fix string }
}

// A waiter waits for runs to end, and says how far they are.
type waiter struct {
	wait  bool
	limit time.Duration
}

func (x *waiter) flags(c *cobra.Command) {
	c.Flags().BoolVar(&x.wait, "wait", false, "wait until it is done, and say how far it is")
	c.Flags().DurationVar(&x.limit, "timeout", 30*time.Minute, "how long to wait at most")
}

// Paces of waiting.
const (
	lookAgain = time.Second
	awayFor   = 2 * time.Minute // how long a server may be away before a command gives up
)

// begin asks for an operation that begins a run, and waits for its end where that is wanted. The answer is no where something was left out
// or went wrong, or where one of the devices is stuck when the end was waited for.
func (r *remote) begin(ctx context.Context, operation string, p client.Params, body any, x waiter, devices ...string) error {
	var run runRow
	raw, err := r.Call(ctx, operation, p, body, &run)
	if err != nil {
		return err
	}
	for _, l := range run.Left {
		fmt.Fprintf(r.cmd.ErrOrStderr(), "Left out: %s. %s %s\n", l.Name, l.Reason, l.Fix)
	}
	no := len(run.Left) > 0
	if x.wait {
		if run, raw, err = r.follow(ctx, p.Path["site"], run, x.limit); err != nil {
			return err
		}
	}
	if err := r.print(raw, func(w io.Writer) error {
		fmt.Fprintf(w, "%s: %s\n", run.Title, stateOf(run))
		return nil
	}); err != nil {
		return err
	}
	no = no || run.State == "failed" || run.State == "stopped"
	if x.wait && len(devices) > 0 {
		stuck, err := r.sayStuck(ctx, p.Path["site"], devices)
		if err != nil {
			return err
		}
		no = no || stuck
	}
	if no {
		return errNo
	}
	return nil
}

func stateOf(run runRow) string {
	switch {
	case run.Problem != "":
		return "failed: " + run.Problem
	case run.State == "running":
		return fmt.Sprintf("under way, %d of %d", run.Done, run.Total)
	}
	return run.State
}

// follow looks at a run until it ends. A server that is away for a while is waited for: the run goes on meanwhile.
func (r *remote) follow(ctx context.Context, site string, run runRow, limit time.Duration) (runRow, []byte, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	say := r.progress()
	defer say("")
	gone := time.Time{}
	for {
		one, raw, err := r.run(ctx, site, run.ID)
		switch {
		case err == nil:
			gone, run = time.Time{}, one
			if run.State != "running" {
				return run, raw, nil
			}
			say(fmt.Sprintf("%s: %d of %d. %s", run.Title, run.Done, run.Total, run.Doing))
		case !errors.Is(err, client.ErrAway):
			return run, nil, err
		case gone.IsZero():
			gone = time.Now()
		case time.Since(gone) > awayFor:
			return run, nil, fmt.Errorf("%w; the work goes on there, see it with: unlatch status --wait", err)
		default:
			say("The server does not answer; trying again. The work goes on there.")
		}
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return run, nil, fmt.Errorf("it takes longer than %v; it goes on, see it with: unlatch status --wait", limit)
			}
			return run, nil, ctx.Err()
		case <-time.After(lookAgain):
		}
	}
}

// run asks for one run among those of its site.
func (r *remote) run(ctx context.Context, site, id string) (runRow, []byte, error) {
	var raws []json.RawMessage
	if _, err := r.Call(ctx, "list-runs", of("site", site), nil, &raws); err != nil {
		return runRow{}, nil, err
	}
	for _, raw := range raws {
		var run runRow
		if err := json.Unmarshal(raw, &run); err == nil && run.ID == id {
			return run, raw, nil
		}
	}
	return runRow{}, nil, errors.New("the run is not there any more")
}

// progress returns what says how far something is: on one line of a terminal that is written over, and nowhere else.
func (r *remote) progress() func(string) {
	out := r.cmd.ErrOrStderr()
	if !term.IsTerminal(2) || r.asJSON {
		last := ""
		return func(text string) {
			if text != "" && text != last && !r.asJSON {
				fmt.Fprintln(out, text)
			}
			last = text
		}
	}
	width := 0
	return func(text string) {
		if w, _, err := term.GetSize(2); err == nil && len(text) >= w && w > 1 {
			text = text[:w-1]
		}
		fmt.Fprint(out, "\r", text, strings.Repeat(" ", max(0, width-len(text))), "\r")
		width = len(text)
	}
}

// onServerFor makes a command over cameras of a site that begins a run.
func onServerFor(c *cobra.Command, operation string, body func(ctx context.Context, r *remote, site string, d []deviceRow) (any, error)) (
	*cobra.Command, *selection) {
	var s selection
	var x waiter
	onServer(c, func(ctx context.Context, r *remote, args []string) error {
		site, err := r.site(ctx, "")
		if err != nil {
			return err
		}
		devices, err := r.cameras(ctx, site.id, args, s)
		if err != nil {
			return err
		}
		if len(devices) == 0 {
			fmt.Fprintln(r.cmd.ErrOrStderr(), "There is no such camera.")
			return errNo
		}
		b, err := body(ctx, r, site.id, devices)
		if err != nil {
			return err
		}
		return r.begin(ctx, operation, of("site", site.id), b, x, idsOf(devices)...)
	})
	choosing(c, &s)
	x.flags(c)
	return c, &s
}

// sayStuck says which of some devices are stuck, each reason once with all that it is about, and reports whether any is.
func (r *remote) sayStuck(ctx context.Context, site string, devices []string) (stuck bool, err error) {
	rows, _, err := r.devices(ctx, site)
	if err != nil {
		return false, err
	}
	names := map[string][]string{} // by what is said of them
	var reasons []string
	for _, d := range rows {
		is := slices.ContainsFunc(d.Latches, func(l struct{ Name, State string }) bool { return l.Name == d.At && l.State == "stuck" })
		if !is || !slices.Contains(devices, d.ID) {
			continue
		}
		why := strings.TrimSpace(d.Next.Reason + " " + d.Next.Fix)
		if names[why] == nil {
			reasons = append(reasons, why)
		}
		names[why] = append(names[why], d.Name)
	}
	for _, why := range reasons {
		list := names[why]
		who := strings.Join(list[:min(len(list), mostNamed)], ", ")
		if len(list) > mostNamed {
			who += fmt.Sprintf(" and %d more", len(list)-mostNamed)
		}
		fmt.Fprintf(r.cmd.ErrOrStderr(), "Stuck: %s. %s\n", who, why)
	}
	return len(reasons) > 0, nil
}

func openCommand() *cobra.Command {
	var again, retry bool
	c, _ := onServerFor(&cobra.Command{Use: "open [CAMERA...]", Short: "Open the latches of cameras as far as they go"}, "open-latches",
		func(_ context.Context, _ *remote, _ string, d []deviceRow) (any, error) {
			return map[string]any{"devices": idsOf(d), "again": again, "retry": retry}, nil
		})
	c.Flags().BoolVar(&again, "again", false, "play streams again that are proven already")
	c.Flags().BoolVar(&retry, "retry", false, "something was mended: send once more what devices have refused")
	return c
}

func placeCommand() *cobra.Command {
	var on string
	var tune bool
	c, _ := onServerFor(&cobra.Command{Use: "place [CAMERA...] --on TARGET", Short: "Put cameras onto a target and ask it for their pictures"},
		"place", func(ctx context.Context, r *remote, site string, d []deviceRow) (any, error) {
			if on == "" {
				return nil, usageError{errors.New("say which target: --on NAME")}
			}
			t, err := r.target(ctx, site, on)
			if err != nil {
				return nil, err
			}
			var placements []map[string]string
			for _, x := range d {
				if x.Kind == "camera" {
					placements = append(placements, map[string]string{"device": x.ID, "target": t.id})
				}
			}
			return map[string]any{"placements": placements, "tune": tune}, nil
		})
	c.Flags().StringVar(&on, "on", "", "the target, by name or ID")
	c.Flags().BoolVar(&tune, "tune", false, "set cameras that do not fit to the nearest plan first")
	c.RegisterFlagCompletionFunc("on", completeTargets)
	return c
}

func removeCommand() *cobra.Command {
	var from string
	var s selection
	var x waiter
	c := onServer(&cobra.Command{Use: "remove [CAMERA...] --from TARGET", Short: "Take cameras off a target"},
		func(ctx context.Context, r *remote, args []string) error {
			if from == "" {
				return usageError{errors.New("say which target: --from NAME")}
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			target, err := r.target(ctx, site.id, from)
			if err != nil {
				return err
			}
			d, err := r.cameras(ctx, site.id, args, s)
			if err != nil {
				return err
			}
			return r.begin(ctx, "remove-from-target", of("site", site.id), map[string]any{"devices": idsOf(d), "target": target.id}, x)
		})
	c.Flags().StringVar(&from, "from", "", "the target, by name or ID")
	c.RegisterFlagCompletionFunc("from", completeTargets)
	choosing(c, &s)
	x.flags(c)
	return c
}

func pasteCommand() *cobra.Command {
	var channels int
	var save, readable bool
	var x waiter
	c := onServer(&cobra.Command{Use: "paste URL", Short: "Take a stream URL, find its siblings and prove them",
		Long: "Paste has the server mend a stream URL, read its path by the path books, and look for the other channels. A URL that holds a\n" +
			"password is better read from standard input: give - in its place.\n" +
			"Exit 0 when it was taken, 1 when not, 2 on wrong use."},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("give one URL, or - for standard input")}
			}
			text := args[0]
			if text == "-" {
				line, err := readSecret(r.cmd)
				if err != nil {
					return err
				}
				text = line
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			var read struct {
				Readings []struct{ Path, Name string }
			}
			if _, err := r.Call(ctx, "read-paste", of(), map[string]any{"text": text, "site": site.id}, &read); err != nil {
				return err
			}
			body := map[string]any{"text": text, "path": "", "channels": channels, "save": save, "readable": readable}
			if len(read.Readings) > 0 {
				body["path"], body["name"] = read.Readings[0].Path, read.Readings[0].Name
			}
			return r.begin(ctx, "take-paste", of("site", site.id), body, x)
		})
	c.Flags().IntVar(&channels, "channels", 1, "how many channels to look for")
	c.Flags().BoolVar(&save, "save", false, "keep the recipe in the path book once it has found streams")
	c.Flags().BoolVar(&readable, "readable", false, "its sign-in may go out so that it can be read, should the device want that")
	siteFlag(c)
	x.flags(c)
	return c
}

// sweepSite is sweep --site: the server sweeps the ranges of one of its sites.
func sweepSite(cmd *cobra.Command, yes bool, x waiter) error {
	r, err := connect(cmd)
	if err != nil {
		return err
	}
	site, err := r.site(cmd.Context(), "")
	if err != nil {
		return err
	}
	return r.begin(cmd.Context(), "start-sweep", of("site", site.id), map[string]any{"confirm_large": yes}, x)
}

// streamsOfSite is streams --site: what the server has measured of the streams of cameras.
func streamsOfSite(cmd *cobra.Command, args []string, s selection) error {
	ctx := cmd.Context()
	r, err := connect(cmd)
	if err != nil {
		return err
	}
	site, err := r.site(ctx, "")
	if err != nil {
		return err
	}
	rows, err := r.cameras(ctx, site.id, args, s)
	if err != nil {
		return err
	}
	type told struct {
		Camera, Address string
		Streams         []streamRow
	}
	list := []told{}
	for _, d := range rows {
		list = append(list, told{cmp.Or(d.Name, d.Address), d.Address, d.Streams})
	}
	raw, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return r.print(raw, func(w io.Writer) error {
		fmt.Fprintln(w, "ADDRESS\tCAMERA\tROLE\tCODEC\tSIZE\tRATE\tBITRATE\tURL")
		for _, c := range list {
			for _, x := range c.Streams {
				measured := "not played\t\t\t"
				if x.Proof != nil && x.Proof.OK && x.Proof.Video != nil {
					v := x.Proof.Video
					measured = fmt.Sprintf("%s\t%dx%d\t%.1f fps\t%d kbit/s", v.Codec, v.Width, v.Height, v.FPS, int(v.BitrateKbps))
				}
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", c.Address, c.Camera, x.Role, measured, x.URL)
			}
		}
		return nil
	})
}

// tuneSite is tune --site: the server sets the streams of cameras of one of its sites. wants are the wishes by part.
func tuneSite(cmd *cobra.Command, args []string, wants map[string]*string, s selection, x waiter) error {
	r, err := connect(cmd)
	if err != nil {
		return err
	}
	site, err := r.site(cmd.Context(), "")
	if err != nil {
		return err
	}
	devices, err := r.cameras(cmd.Context(), site.id, args, s)
	if err != nil {
		return err
	}
	plan := map[string]string{}
	for part, text := range wants {
		if *text != "" {
			plan[part] = *text
		}
	}
	return r.begin(cmd.Context(), "tune-devices", of("site", site.id), map[string]any{"devices": idsOf(devices), "plan": plan}, x)
}

func statusCommand() *cobra.Command {
	var x waiter
	c := onServer(&cobra.Command{Use: "status", Short: "Say what runs on a site, and at which latch its cameras wait", Args: noArgs,
		Long: "Status says what runs on a site and how its cameras stand; with --wait it waits until nothing runs there any more.\n" +
			"Exit 0 when no camera is stuck, 1 when one is, 2 on wrong use."},
		func(ctx context.Context, r *remote, _ []string) error {
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			runs, err := r.running(ctx, site.id)
			for err == nil && x.wait && len(runs) > 0 {
				if _, _, err = r.follow(ctx, site.id, runs[0], x.limit); err == nil {
					runs, err = r.running(ctx, site.id)
				}
			}
			if err != nil {
				return err
			}
			return r.printStatus(ctx, site, runs)
		})
	siteFlag(c)
	x.flags(c)
	return c
}

// running returns the runs of a site that are under way.
func (r *remote) running(ctx context.Context, site string) ([]runRow, error) {
	var runs []runRow
	_, err := r.Call(ctx, "list-runs", of("site", site), nil, &runs)
	return slices.DeleteFunc(runs, func(x runRow) bool { return x.State != "running" }), err
}

func (r *remote) printStatus(ctx context.Context, site chosen, runs []runRow) error {
	rows, _, err := r.sites(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(rows, func(s siteRow) bool { return s.ID == site.id })
	if i < 0 {
		return errors.New("the site is not there any more")
	}
	s := rows[i]
	raw, err := json.Marshal(map[string]any{"site": s.Name, "cameras": s.Cameras, "done": s.Done, "stuck": s.Stuck, "funnel": s.Funnel,
		"running": runs})
	if err != nil {
		return err
	}
	if err := r.print(raw, func(w io.Writer) error {
		fmt.Fprintf(w, "%s: %d cameras, %d done, %d stuck\n", s.Name, s.Cameras, s.Done, s.Stuck)
		for _, name := range latchList() {
			if n := s.Funnel[name]; n > 0 {
				fmt.Fprintf(w, "  waiting at %s\t%d\n", name, n)
			}
		}
		for _, x := range runs {
			fmt.Fprintf(w, "  %s\t%s\n", x.Title, stateOf(x))
		}
		return nil
	}); err != nil {
		return err
	}
	if s.Stuck > 0 {
		return errNo
	}
	return nil
}

// elements returns the elements of a JSON list as they came.
func elements(raw []byte) []any {
	var out []any
	json.Unmarshal(raw, &out)
	return out
}

// readSecret reads one line from standard input.
func readSecret(cmd *cobra.Command) (string, error) {
	raw, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 4000))
	line, _, _ := strings.Cut(string(raw), "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return "", usageError{cmp.Or(err, errors.New("nothing was given on standard input"))}
	}
	return line, nil
}
