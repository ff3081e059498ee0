package camlist

import "strings"

// An Example is a template to begin with.
type Example struct {
	Name      string `json:"name"`
	Text      string `json:"text"`
	Each      bool   `json:"each"`
	Passwords bool   `json:"passwords"`
	File      string `json:"file" doc:"a name for the file that it makes"`
	Type      string `json:"type" doc:"media type"`
}

// Examples are the templates that come with the product. The feeds are made by three of them.
var Examples = []Example{
	{Name: "CSV", File: "cameras.csv", Type: "text/csv; charset=utf-8", Text: `number,name,address,port,path,codec,width,height,user
{{range .Cameras}}{{.Number}},{{csv .Name}},{{csv .Address}},{{.Port}},{{csv .Path}},{{csv .Sub.Codec}},{{.Sub.Width}},{{.Sub.Height}},` +
		`{{csv .User}}
{{end}}`},
	{Name: "JSON", File: "cameras.json", Type: "application/json", Passwords: true,
		Text: `{"site":{{json .Site}},"cameras":[{{range $i, $c := .Cameras}}{{if $i}},{{end}}
 {"id":{{json .ID}},"name":{{json .Name}},"streams":[{{range $j, $s := .Streams}}{{if $j}},{{end}}` +
			`{"role":{{json .Role}},"url":{{json .SignedURL}},` +
			`"codec":{{json .Codec}},` +
			`"width":{{.Width}},"height":{{.Height}}}{{end}}]}{{end}}
]}
`},
	{Name: "YAML", File: "cameras.yaml", Type: "application/yaml", Text: `site: {{yaml .Site}}
cameras:
{{range .Cameras}}  - name: {{yaml .Name}}
    main: {{yaml .Main.URL}}
    sub: {{yaml .Sub.URL}}
    user: {{yaml .User}}
{{end}}`},
	{Name: "INI", File: "cameras.ini", Type: "text/plain; charset=utf-8", Text: `{{range .Cameras}}[camera{{.Number}}]
name = {{ini .Name}}
url = {{ini .Sub.URL}}

{{end}}`},
	{Name: "M3U", File: "cameras.m3u", Type: "audio/x-mpegurl", Passwords: true, Text: `#EXTM3U
{{range .Cameras}}#EXTINF:-1,{{m3u .Name}}
{{m3u .Sub.SignedURL}}
{{end}}`},
	{Name: "XSPF", File: "cameras.xspf", Type: "application/xspf+xml", Passwords: true, Text: `<?xml version="1.0" encoding="UTF-8"?>
<playlist version="1" xmlns="http://xspf.org/ns/0/"><title>{{xml .Site}}</title><trackList>
{{range .Cameras}}<track><location>{{xml .Sub.SignedURL}}</location><title>{{xml .Name}}</title></track>
{{end}}</trackList></playlist>
`},
	{Name: "Media player list", File: "players.txt", Type: "text/plain; charset=utf-8", Each: true,
		Text: `{{m3u .Name | pad 24}} {{m3u .Main.URL}}
`},
}

// ByName finds an example without regard to case.
func ByName(name string) (Example, bool) {
	for _, e := range Examples {
		if strings.EqualFold(e.Name, name) {
			return e, true
		}
	}
	return Example{}, false
}
