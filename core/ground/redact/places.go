package redact

import (
	"slices"
	"strings"
)

// places are those in which a text may carry a secret. Matching all patterns took a tenth of what opening a camera takes, and most texts
// have none of the words that a pattern needs.
type places struct{ auth, xml, user, query, ingest bool }

// everywhere has each pattern matched.
var everywhere = places{true, true, true, true, true}

// lookFor returns the places that a text may have. It errs on the safe side: patterns that ignore case take letters beyond ASCII for
// those within (U+017F for s), so that a text which is not ASCII may have them all.
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

// hasSecretName reports whether one of secretNames stands between a separator of query parameters and an equals sign in a text of lower
// case.
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
