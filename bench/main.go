// Command bench measures the product and writes bench/RESULTS.md: everything, or the measurements that are named. Every figure is a median
// and stands beside a floor that was measured in the same run: a bare connect loop, a key-frame wait, a copy of the same bytes.
package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"unlatch/sim/netns"
	"unlatch/sim/scene"
)

// A figure is one line of the results.
type figure struct {
	what, got, floor, ratio string
	want                    any // a bound, or text for a figure that is stated
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run() error {
	ctx := context.Background()
	if order := os.Getenv(copierVariable); order != "" {
		return copyPlainly(order)
	}
	if order := os.Getenv(relayVariable); order != "" {
		return relayPart(ctx, order)
	}
	if netns.Inside() {
		return silentInside(ctx)
	}
	media := &scene.Library{Dir: filepath.Join(".unlatch", "media")}
	var names []string
	for _, m := range measurements {
		names = append(names, m.name)
	}
	for _, name := range os.Args[1:] {
		if !slices.Contains(names, name) {
			return fmt.Errorf("nothing is measured by the name %q; there are: %s", name, strings.Join(names, ", "))
		}
	}
	var all []figure
	for _, m := range measurements {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], m.name) {
			continue
		}
		fmt.Fprintln(os.Stderr, "measuring:", m.name)
		f, err := m.run(ctx, media)
		if err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
		made := section(m.name, f)
		fmt.Print(made)
		if err := record(m.name, made, names); err != nil {
			return err
		}
		all = append(all, f...)
	}
	worse := missed(all)
	for _, f := range worse {
		fmt.Fprintf(os.Stderr, "worse than wanted: %s: %s %s (%v)\n", f.what, f.got, f.ratio, f.want)
	}
	if len(worse) > 0 {
		return fmt.Errorf("%d figures are worse than wanted", len(worse))
	}
	return nil
}

// measurements are all that is measured, in the order in which the results name them.
var measurements = []struct {
	name string
	run  func(context.Context, *scene.Library) ([]figure, error)
}{
	{"meter", meter}, {"sweep", sweep}, {"silent range", silent}, {"thousand devices", thousand}, {"fifty addresses", fiftyAddresses},
	{"recipes", recipes}, {"paths", likelyPaths}, {"prove", proveTime}, {"two hundred cameras", twoHundred}, {"keyring", keyring},
	{"line-up", lineUp}, {"tuned", tuned}, {"reckoning", reckoning}, {"patched", patched}, {"sixteen", sixteen}, {"live", liveViewing},
	{"given", givenStreams}, {"commands", commanded}, {"acts", acted}, {"people", peopled}, {"attacked", attacked},
	{"watched 200", lookedAfter(200, "127.62.0.10", "127.62.0.110", "127.62.0.0/24")},
	{"watched 400", lookedAfter(400, "127.62.8.10", "127.62.10.10", "127.62.8.0/22")}, {"a year", aYear}, {"quiet", quietly},
	{"relayed", relayed}, {"afar", afar}, {"searched", searched}, {"firm", firm}, {"converted", converted},
	{"a pack of 200", packOf(200, 20, 300)}, {"a pack of 2000", packOf(2000, 180, 500)},
}

func processor() string {
	raw, _ := os.ReadFile("/proc/cpuinfo")
	for _, l := range strings.Split(string(raw), "\n") {
		if name, v, ok := strings.Cut(l, ":"); ok && strings.TrimSpace(name) == "model name" {
			return strings.TrimSpace(v)
		}
	}
	return "unknown processor"
}

func median[T int | int64 | float64 | time.Duration](list []T) T {
	slices.Sort(list)
	return list[len(list)/2]
}

// program is the binary as ./dev builds it.
var program = filepath.Join(".unlatch", "bin", "unlatch")

// peak runs a command and returns what it printed, how long it took and its largest resident size in bytes.
func peak(args ...string) (out []byte, took time.Duration, rss int64, err error) {
	cmd := exec.Command(program, args...)
	var b bytes.Buffer
	cmd.Stdout = &b
	began := time.Now()
	err = cmd.Run()
	took = time.Since(began)
	if cmd.ProcessState != nil {
		rss = maxRSS(cmd.ProcessState.SysUsage())
	}
	if _, isExit := err.(*exec.ExitError); isExit && b.Len() > 0 {
		err = nil // a sweep that finds nothing says no, and was still measured
	}
	return b.Bytes(), took, rss, err
}
