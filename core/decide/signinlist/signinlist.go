// Package signinlist reads sign-ins out of a table that somebody brings along. A password stands in no error and in no warning.
package signinlist

import (
	"fmt"
	"strings"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/table"
)

// A Key is one sign-in. A field that the list does not have is empty.
type Key struct {
	Line    int
	Label   string
	User    string
	Secret  signin.Secret
	Maker   string
	Purpose string // device, stream or web; "" for everything
	Note    string
	Factory bool
}

// Limits of the fields, in bytes.
const (
	maxField  = 200
	maxSecret = 400
	// MaxKeys is how many sign-ins a list may have: nobody has more, and each is tried.
	MaxKeys = 500
)

var headings = map[string][]string{
	"user":    {"user", "user name", "username", "login", "account"},
	"secret":  {"password", "secret", "pass"},
	"label":   {"name", "label", "title"},
	"maker":   {"maker", "manufacturer", "vendor", "brand"},
	"purpose": {"purpose", "for", "use"},
	"note":    {"note", "notes", "remark", "remarks", "comment", "comments"},
	"factory": {"factory", "factory password", "default"},
}

// ParseCSV reads a list whose first row, or one of the next, has headings over the columns; there must be a user and a password. Lines that
// cannot be used are left out and named in the warnings.
func ParseCSV(raw []byte) (keys []Key, warnings []string, err error) {
	cells, err := table.CSV(raw)
	if err != nil {
		return nil, nil, err
	}
	columns, start := table.Columns(cells, headings)
	has := map[string]bool{}
	for _, c := range columns {
		has[c] = true
	}
	if !has["user"] || !has["secret"] {
		return nil, nil, &table.Error{Problem: "no columns of user names and passwords were found",
			Fix: "put a heading over each column: user, password, and if you like name, maker, purpose, note, factory"}
	}
	seen := map[string]int{}
	for i, record := range cells[start:] {
		k := Key{Line: start + i + 1}
		warn := func(text string) { warnings = append(warnings, fmt.Sprintf("Line %d: %s.", k.Line, text)) }
		secret := ""
		for n, text := range record {
			tidy := table.Clean(text)
			switch columns[n] {
			case "user":
				k.User = strings.TrimSpace(text)
			case "secret":
				secret = strings.TrimRight(text, "\r\n") // blanks may belong to it
			case "label":
				k.Label = tidy
			case "maker":
				k.Maker = tidy
			case "purpose":
				k.Purpose = purposes[strings.ToLower(tidy)]
				if k.Purpose == "" && tidy != "" && strings.ToLower(tidy) != "everything" {
					warn("its purpose is not known, so that it is tried for everything")
				}
			case "note":
				k.Note = tidy
			case "factory":
				k.Factory = yes[strings.ToLower(tidy)]
			}
		}
		switch key := k.User + "\x00" + secret + "\x00" + k.Maker + "\x00" + k.Purpose; {
		case k.User == "" && secret == "":
			continue
		case k.User == "":
			warn("it has no user name and was left out")
			continue
		case len(k.User) > maxField || len(k.Label) > maxField || len(k.Maker) > maxField || len(secret) > maxSecret:
			warn("a field is too long, and the line was left out")
			continue
		case seen[key] > 0:
			warn(fmt.Sprintf("the same as line %d, left out", seen[key]))
			continue
		default:
			seen[key] = k.Line
		}
		if k.Label == "" {
			k.Label = k.User
		}
		k.Secret = signin.NewSecret(secret)
		if keys = append(keys, k); len(keys) > MaxKeys {
			return nil, nil, &table.Error{Problem: fmt.Sprintf("the list has more than %d sign-ins", MaxKeys),
				Fix: "bring those of your sites alone: each is tried on devices"}
		}
	}
	if len(keys) == 0 {
		return nil, warnings, &table.Error{Problem: "the list has no line with a user name", Fix: "check that the right sheet was saved"}
	}
	return keys, warnings, nil
}

var purposes = map[string]string{"device": "device", "device service": "device", "onvif": "device", "stream": "stream",
	"streams": "stream", "rtsp": "stream", "video": "stream", "web": "web", "web page": "web", "page": "web"}

var yes = map[string]bool{"yes": true, "y": true, "true": true, "1": true, "x": true}
