package signin

import (
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Waits for a device that is locked. A device that does not say how long gets DefaultWait; one that says more than MaxWait is asked again
// after MaxWait, for a hint may be wrong.
const (
	DefaultWait = 5 * time.Minute
	MaxWait     = time.Hour
)

// A LockedError means that the device judges no sign-in for a while, whether the right one or a wrong one.
type LockedError struct {
	Wait   time.Duration // how long, counted from the answer
	Hinted bool          // the device itself said how long
	Seen   string        // what it answered
}

func (e *LockedError) Error() string {
	how := "it does not say how long"
	if e.Hinted {
		how = fmt.Sprintf("for %s by its own word", e.Wait)
	}
	return fmt.Sprintf("the device is locked, %s (%s)", how, e.Seen)
}

// remaining finds "try again in 90 seconds", "locked for 5 min", "remaining time: 120 s" in an answer's text.
var remaining = regexp.MustCompile(`(?i)(?:lock|again|wait|remain|retry|blocked)[^0-9\n]{0,40}?(\d{1,5})\s*(ms|m|min|minutes?|s|` +
	`sec|seconds?|h|hours?)?\b`)

// locking finds who is locked: a setting may be locked, too, and that is another matter.
var locking = regexp.MustCompile(`(?i)too many (wrong |failed |invalid )?(tries|attempts|log-?ins|sign-?ins)|\block(ed)? ?out\b|` +
	`\b(account|user|device|client|log-?in|sign-?in)( name)?( is| was| has been| temporarily)* (b?locked)\b`)

// Locked reads an answer to a request that carried a sign-in: its status (RFC 9110 §15, RFC 4918 §11.3, RFC 6585 §4), its Retry-After line
// (RFC 9110 §10.2.3, RFC 2326 §12.31) and the text of its reason. It returns nil where nothing says that the device is locked: a bare 401,
// and a bare 403, which is the device's word on what a user may do. The text is the device's, and is read for numbers only.
func Locked(status int, retryAfter, text string, now time.Time) *LockedError {
	switch status {
	case 401, 403, 423, 429, 500, 503:
	default:
		return nil
	}
	wait, hinted := parseRetryAfter(retryAfter, now)
	said := locking.MatchString(text)
	switch {
	case status == http.StatusLocked, status == http.StatusTooManyRequests:
	case (status == 403 || status == 503 || status == 401) && (said || hinted):
	case status >= 400 && said:
	default:
		return nil
	}
	if !hinted {
		if m := remaining.FindStringSubmatch(text); m != nil {
			wait, hinted = period(m[1], m[2]), true
		}
	}
	if !hinted || wait <= 0 {
		wait, hinted = DefaultWait, false
	}
	seen := strconv.Itoa(status)
	if retryAfter != "" && len(retryAfter) < 64 {
		seen += ", Retry-After: " + retryAfter
	}
	return &LockedError{Wait: min(wait, MaxWait), Hinted: hinted, Seen: seen}
}

// LockedOut is Locked for an answer of which it must be known first whether a lock is likely: judged says that the request carried a
// sign-in which the device has not taken yet. Of other answers only the words count, or a status that means nothing else: a busy device
// asks people to come back later, too.
func LockedOut(judged bool, status int, retryAfter, text string, now time.Time) error {
	if !judged && Locked(status, "", text, now) == nil {
		return nil
	}
	if l := Locked(status, retryAfter, text, now); l != nil {
		return l
	}
	return nil
}

// parseRetryAfter reads seconds or an HTTP date.
func parseRetryAfter(s string, now time.Time) (time.Duration, bool) {
	s = strings.TrimSpace(s)
	if n, err := strconv.Atoi(s); err == nil && n > 0 && n < 1e6 {
		return time.Duration(n) * time.Second, true
	}
	if at, err := http.ParseTime(s); err == nil && at.After(now) {
		return at.Sub(now).Round(time.Second), true
	}
	return 0, false
}

func period(number, unit string) time.Duration {
	n, _ := strconv.Atoi(number)
	switch {
	case unit == "ms":
		return max(time.Duration(n)*time.Millisecond, time.Second)
	case strings.HasPrefix(strings.ToLower(unit), "h"):
		return time.Duration(n) * time.Hour
	case strings.HasPrefix(strings.ToLower(unit), "m"):
		return time.Duration(n) * time.Minute
	}
	return time.Duration(n) * time.Second
}
