package onvif

import (
	"bytes"
	"encoding/xml"
	"strings"
)

// Arguments returns the text of every element of a request's body that has a local name, as a service reads what it is asked.
func Arguments(body []byte, name string) (out []string) {
	d := xml.NewDecoder(bytes.NewReader(body))
	for {
		t, err := d.Token()
		if err != nil {
			return out
		}
		var text string
		if start, ok := t.(xml.StartElement); ok && start.Name.Local == name && d.DecodeElement(&text, &start) == nil {
			out = append(out, strings.TrimSpace(text))
		}
	}
}

// Argument returns the first of them; "" for none.
func Argument(body []byte, name string) string {
	if list := Arguments(body, name); len(list) > 0 {
		return list[0]
	}
	return ""
}
