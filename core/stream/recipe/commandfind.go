package recipe

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html"
	"strconv"
	"strings"
	"unicode"
)

// mostFound bounds what is found on a page, in bytes.
const mostFound = 400

// A NotFoundError means that a page does not show what it should.
type NotFoundError struct{ What, Path, Why string }

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("%s does not stand on %s: %s", e.What, e.Path, e.Why)
}

// ReadValues reads the command's values out of the page that shows them. The error is a *NotFoundError.
func (c *Command) ReadValues(page []byte) (map[string]string, error) {
	out := map[string]string{}
	for _, f := range c.Read.Find {
		v, _ := c.Value(f.Value)
		text, why := find(page, f.After, f.Before, f.JSON)
		if why != "" {
			return nil, &NotFoundError{f.Value, c.Read.Path, why}
		}
		out[v.Name] = v.read(text)
	}
	return out, nil
}

// ReadToken reads the token out of the page that gives it.
func (c *Command) ReadToken(page []byte) (string, error) {
	text, why := find(page, c.Token.After, c.Token.Before, c.Token.JSON)
	if why != "" {
		return "", &NotFoundError{tokenName, c.Token.Path, why}
	}
	return text, nil
}

// find returns what stands between two texts, or at a place of a JSON document. why says why nothing is found; "" where something is.
func find(page []byte, after, before, pointer string) (text, why string) {
	if pointer != "" {
		return atPointer(page, pointer)
	}
	i := bytes.Index(page, []byte(after))
	if i < 0 {
		return "", fmt.Sprintf("%q is not there", after)
	}
	rest := page[i+len(after):]
	rest = rest[:min(len(rest), mostFound)]
	end := bytes.Index(rest, []byte(before))
	if before == "" {
		end = bytes.IndexAny(rest, "\r\n")
		if end < 0 {
			end = len(rest)
		}
	}
	if end < 0 {
		return "", fmt.Sprintf("%q does not follow %q", before, after)
	}
	text = html.UnescapeString(string(rest[:end]))
	if strings.ContainsFunc(text, unicode.IsControl) {
		return "", "it holds control characters"
	}
	return text, ""
}

// atPointer returns a scalar of a JSON document by its pointer (RFC 6901), as it is written there.
func atPointer(page []byte, pointer string) (text, why string) {
	d := json.NewDecoder(bytes.NewReader(page))
	d.UseNumber()
	var at any
	if err := d.Decode(&at); err != nil {
		return "", "the page is no JSON"
	}
	unescape := strings.NewReplacer("~1", "/", "~0", "~")
	for _, step := range strings.Split(pointer, "/")[1:] {
		step = unescape.Replace(step)
		switch x := at.(type) {
		case map[string]any:
			at = x[step]
		case []any:
			n, err := strconv.Atoi(step)
			if err != nil || n < 0 || n >= len(x) {
				return "", fmt.Sprintf("%s leads nowhere", pointer)
			}
			at = x[n]
		default:
			return "", fmt.Sprintf("%s leads nowhere", pointer)
		}
	}
	switch x := at.(type) {
	case string:
		text = x
	case json.Number:
		text = x.String()
	case bool:
		text = strconv.FormatBool(x)
	default:
		return "", fmt.Sprintf("%s leads to no single value", pointer)
	}
	if len(text) > mostFound || strings.ContainsFunc(text, unicode.IsControl) {
		return "", "it is longer than any, or holds control characters"
	}
	return text, ""
}
