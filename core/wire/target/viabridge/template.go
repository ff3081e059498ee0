package viabridge

import (
	"regexp"
	"strconv"
	"strings"

	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
)

// Template returns the template that a stream URL has the shape of, and the host that stands beside it. The channel number in the path
// becomes the target's own placeholder where the path says it once; a path in which it cannot be told apart stays as it is.
func Template(st target.Stream, channel int, placeholder string) (bridge.Template, string, error) {
	u, err := streamurl.Parse(st.URL)
	if err != nil {
		return bridge.Template{}, "", err
	}
	t := bridge.Template{Path: u.Target(), Port: u.DialPort(), Transport: transport(st.Transport), Stream: st.Role}
	if channel > 0 && placeholder != "" {
		if at := numbers(t.Path, channel); len(at) == 1 {
			t.Path = t.Path[:at[0][0]] + placeholder + t.Path[at[0][1]:]
		}
	}
	return t, u.Host, nil
}

var digits = regexp.MustCompile(`[0-9]+`)

// numbers returns the places at which a path says a number, by itself.
func numbers(path string, n int) (at [][]int) {
	for _, m := range digits.FindAllStringIndex(path, -1) {
		if v, err := strconv.Atoi(path[m[0]:m[1]]); err == nil && v == n && !strings.HasPrefix(path[m[0]:m[1]], "0") {
			at = append(at, m)
		}
	}
	return at
}
