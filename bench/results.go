package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// resultsFile is where figures are kept. Each measurement has a section of its own, with the day and the machine of its last run, so
// that one can be run again without the others.
var resultsFile = filepath.Join("bench", "RESULTS.md")

const resultsHead = `# Measured

Medians, each beside a floor of the same run. ` + "`./dev bench` measures everything anew, and `./dev bench \"NAME\"`" + ` one section.
`

// section writes the figures of a measurement as a section of the results.
func section(name string, figures []figure) string {
	var b strings.Builder
	fmt.Fprintf(&b, "## %s\n\n%s, %s, %d cores, %s %s/%s.\n\n", name, time.Now().UTC().Format(time.DateOnly), processor(), runtime.NumCPU(),
		runtime.Version(), runtime.GOOS, runtime.GOARCH)
	b.WriteString("| what | measured | floor of the same run | ratio | wanted |\n| --- | ---: | ---: | ---: | --- |\n")
	for _, f := range figures {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %v |\n", f.what, f.got, f.floor, f.ratio, f.want)
	}
	return b.String()
}

// withSection returns the text of the results with a measurement's section replaced by the one made now. Sections stand in the order of
// names, and one that is of none of them is left out.
func withSection(text, name, made string, names []string) string {
	sections := map[string]string{}
	for _, s := range strings.Split("\n"+text, "\n## ")[1:] {
		title, _, _ := strings.Cut(s, "\n")
		sections[title] = "## " + strings.TrimRight(s, "\n") + "\n"
	}
	sections[name] = made
	out := resultsHead
	for _, n := range names {
		if s := sections[n]; s != "" {
			out += "\n" + s
		}
	}
	return out
}

// record puts the section of a measurement into the results file.
func record(name, made string, names []string) error {
	text, err := os.ReadFile(resultsFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.WriteFile(resultsFile, []byte(withSection(string(text), name, made, names)), 0o644)
}
