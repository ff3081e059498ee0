package redact

import (
	"slices"
	"strings"
)

// places says in which places a text may carry a secret, so that only their patterns are matched. Matching all of them took a tenth of what
// opening a camera takes, and most texts have none of the words that a pattern needs.
type places struct{ auth, xml, user, query, ingest bool }

// everywhere stands for all places.
var everywhere = places{true, true, true, true, true}

// lookFor returns the places that a text may have. For a text that is not ASCII it returns everywhere, because a pattern that ignores case
// also matches some letters beyond ASCII, such as U+017F for s.
func lookFor(s string) places {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return everywhere
		}
	}
	lower := strings.ToLower(s)
	return places{
		auth:   strings.Contains(lower, "authorization:"),
		xml:    strings.Contains(s, "Password") || strings.Contains(s, "Nonce"),
		user:   strings.Contains(s, "://") && strings.Contains(s, "@"),
		query:  hasSecretName(lower),
		ingest: strings.Contains(lower, "rtmp"),
	}
}

// hasSecretName reports whether a text in lower case has one of secretNames between a separator of query parameters and an equals sign.
func hasSecretName(lower string) bool {
	for rest := lower; ; {
		before, after, found := strings.Cut(rest, "=")
		if !found {
			return false
		}
		if at := strings.LastIndexAny(before, "?&;"); at >= 0 && slices.Contains(secretNames, before[at+1:]) {
			return true
		}
		rest = after
	}
}
