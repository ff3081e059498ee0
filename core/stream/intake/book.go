package intake

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/yamlfile"
	"unlatch/core/stream/tuning"
)

// Limits of a book.
const (
	MaxBook    = 1 << 20 // bytes
	MaxIntakes = 1000
	maxEntries = 200 // of a list in an intake
)

// ReadBook reads an intake book in YAML: a name, and intakes; or one intake alone. Its errors are *yamlfile.Error, with line and column.
func ReadBook(raw []byte) (*Book, error) {
	root, err := yamlfile.Root(raw, "an intake book", MaxBook)
	if err != nil {
		return nil, err
	}
	many := false
	for key := range yamlfile.Pairs(root) {
		many = many || key.Value == "intakes"
	}
	if !many {
		one, err := readIntake(root)
		return &Book{Name: one.Name, Intakes: []Intake{one}}, err
	}
	b, err := yamlfile.ReadBook(root, yamlfile.BookForm[Intake]{What: "an intake book", Key: "intakes", Most: MaxIntakes, Read: readIntake,
		Name: func(x Intake) string { return x.Name }})
	if err != nil {
		return nil, err
	}
	return &Book{b.Name, b.Note, b.List}, nil
}

// fields read the keys of an intake.
var fields = map[string]func(x *Intake, key string, n *yaml.Node) error{
	"name":     func(x *Intake, k string, n *yaml.Node) (err error) { x.Name, err = yamlfile.Text(k, n); return err },
	"note":     func(x *Intake, k string, n *yaml.Node) (err error) { x.Note, err = yamlfile.Text(k, n); return err },
	"roles":    words(func(x *Intake) *[]string { return &x.Roles }, "main", "sub", "third"),
	"profiles": words(func(x *Intake) *[]string { return &x.Profiles }),
	"audio":    words(func(x *Intake) *[]string { return &x.Audio }),
	"transports": words(func(x *Intake) *[]string { return &x.Transports }, "tcp", "udp", "multicast", "http tunnel", "http", "http pictures",
		"mpeg-ts",
		"mpeg-ts over rtp", "mpeg-ts over http"),
	"schemes":     words(func(x *Intake) *[]string { return &x.Schemes }, "none", "basic", "digest"),
	"requires":    words(func(x *Intake) *[]string { return &x.Requires }),
	"fps":         span(func(x *Intake) *Range { return &x.FPS }, 240),
	"kbps":        span(func(x *Intake) *Range { return &x.Kbps }, 1e6),
	"gop_seconds": span(func(x *Intake) *Range { return &x.GOPSeconds }, 600),
	"min_size":    size(func(x *Intake) *tuning.Size { return &x.MinSize }),
	"max_size":    size(func(x *Intake) *tuning.Size { return &x.MaxSize }),
	"channels":    func(x *Intake, k string, n *yaml.Node) error { return whole(k, n, 100_000, &x.Channels) },
	"total_mbps": func(x *Intake, k string, n *yaml.Node) (err error) {
		x.TotalMbps, err = yamlfile.Number(k, n, 0, 1e6)
		return err
	},
	"total_pixels": func(x *Intake, k string, n *yaml.Node) (err error) {
		x.TotalPixels, err = yamlfile.Number(k, n, 0, 1e15)
		return err
	},
	"codecs":   readCodecs,
	"sizes":    readSizes,
	"ports":    readPorts,
	"password": readPassword,
	"tls":      readTLS,
}

func readIntake(n *yaml.Node) (x Intake, err error) {
	if n.Kind != yaml.MappingNode {
		return x, yamlfile.At(n, "an intake begins with name:")
	}
	for key, value := range yamlfile.Pairs(n) {
		read := fields[key.Value]
		if read == nil {
			return x, yamlfile.At(key, fmt.Sprintf("an intake has no %q", key.Value))
		}
		if err := read(&x, key.Value, value); err != nil {
			return x, err
		}
	}
	switch {
	case strings.TrimSpace(x.Name) == "":
		return x, yamlfile.At(n, "the intake has no name")
	case x.MaxSize.Width > 0 && (x.MinSize.Width > x.MaxSize.Width || x.MinSize.Height > x.MaxSize.Height):
		return x, yamlfile.At(n, fmt.Sprintf("min_size %s is larger than max_size %s", x.MinSize, x.MaxSize))
	}
	return x, nil
}

// words reads a list of words, of which only some are allowed where some are named.
func words(of func(*Intake) *[]string, allowed ...string) func(*Intake, string, *yaml.Node) error {
	return func(x *Intake, key string, n *yaml.Node) error {
		list, err := yamlfile.List(key, n, maxEntries)
		if err != nil {
			return err
		}
		for _, c := range list {
			text, err := yamlfile.Text(key, c)
			if err != nil {
				return err
			}
			if len(allowed) > 0 && !slices.Contains(allowed, text) {
				return yamlfile.At(c, fmt.Sprintf("%s has no %q; it has %s", key, text, strings.Join(allowed, ", ")))
			}
			*of(x) = append(*of(x), text)
		}
		return nil
	}
}

// span reads a range: {min: 1, max: 10}, or one number, which is the most.
func span(of func(*Intake) *Range, most float64) func(*Intake, string, *yaml.Node) error {
	return func(x *Intake, key string, n *yaml.Node) (err error) {
		r := of(x)
		if n.Kind == yaml.ScalarNode {
			r.Max, err = yamlfile.Number(key, n, 0, most)
			return err
		}
		if n.Kind != yaml.MappingNode {
			return yamlfile.At(n, key+" is {min: …, max: …}")
		}
		for k, v := range yamlfile.Pairs(n) {
			switch k.Value {
			case "min":
				r.Min, err = yamlfile.Number("min", v, 0, most)
			case "max":
				r.Max, err = yamlfile.Number("max", v, 0, most)
			default:
				err = yamlfile.At(k, fmt.Sprintf("%s has no %q; it has min and max", key, k.Value))
			}
			if err != nil {
				return err
			}
		}
		if r.Max > 0 && r.Min > r.Max {
			return yamlfile.At(n, fmt.Sprintf("%s: min %g is larger than max %g", key, r.Min, r.Max))
		}
		return nil
	}
}

func size(of func(*Intake) *tuning.Size) func(*Intake, string, *yaml.Node) error {
	return func(x *Intake, key string, n *yaml.Node) (err error) {
		if *of(x), err = tuning.ParseSize(n.Value); err != nil {
			return yamlfile.At(n, key+": "+err.Error())
		}
		return nil
	}
}

func whole(key string, n *yaml.Node, most float64, to *int) error {
	v, err := yamlfile.Number(key, n, 0, most)
	if err == nil && v != float64(int(v)) {
		return yamlfile.At(n, key+" is a whole number")
	}
	*to = int(v)
	return err
}

func readCodecs(x *Intake, key string, n *yaml.Node) error {
	list, err := yamlfile.List(key, n, maxEntries)
	if err != nil {
		return err
	}
	for _, c := range list {
		codec, ok := tuning.CodecOf(c.Value)
		if !ok {
			return yamlfile.At(c, fmt.Sprintf("there is no codec %q; there are H.264, H.265, MJPEG and MPEG-4", c.Value))
		}
		x.Codecs = append(x.Codecs, codec)
	}
	return nil
}

func readSizes(x *Intake, key string, n *yaml.Node) error {
	list, err := yamlfile.List(key, n, maxEntries)
	if err != nil {
		return err
	}
	for _, c := range list {
		s, err := tuning.ParseSize(c.Value)
		if err != nil {
			return yamlfile.At(c, err.Error())
		}
		x.Sizes = append(x.Sizes, s)
	}
	return nil
}

func readPorts(x *Intake, key string, n *yaml.Node) error {
	list, err := yamlfile.List(key, n, maxEntries)
	if err != nil {
		return err
	}
	for _, c := range list {
		var port int
		if err := whole(key, c, 65535, &port); err != nil {
			return err
		}
		x.Ports = append(x.Ports, port)
	}
	return nil
}

func readPassword(x *Intake, key string, n *yaml.Node) (err error) {
	if n.Kind != yaml.MappingNode {
		return yamlfile.At(n, key+" is {max_length: …, characters: …}")
	}
	for k, v := range yamlfile.Pairs(n) {
		switch k.Value {
		case "max_length":
			err = whole("max_length", v, 1000, &x.Password.MaxLength)
		case "characters":
			if x.Password.Characters, err = yamlfile.Text("characters", v); err == nil {
				if _, cerr := characters(x.Password.Characters); cerr != nil {
					err = yamlfile.At(v, "characters are those that a password may have, like a-zA-Z0-9_-")
				}
			}
		default:
			err = yamlfile.At(k, fmt.Sprintf("password has no %q; it has max_length and characters", k.Value))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func readTLS(x *Intake, key string, n *yaml.Node) error {
	switch n.Value {
	case "yes", "true":
		x.TLS = "yes"
	case "no", "false":
		x.TLS = "no"
	default:
		return yamlfile.At(n, key+" is yes or no")
	}
	return nil
}

//go:embed books/*.yaml
var books embed.FS

// ShippedFile returns the book of the product as a file.
func ShippedFile() ([]byte, error) { return books.ReadFile("books/plain.yaml") }

// Shipped are the intakes that come with the product.
var Shipped = sync.OnceValue(func() *Book {
	raw, err := ShippedFile()
	if err != nil {
		panic(err)
	}
	b, err := ReadBook(raw)
	if err != nil {
		panic("the intake book that comes with the product: " + err.Error())
	}
	return b
})
