package recipe

import (
	"embed"
	"fmt"
	"sync"
)

//go:embed books/*.yaml
var shipped embed.FS

// Shipped returns the path books that come with the product: the invented makers' first, the plain-word guesses last.
var Shipped = sync.OnceValue(func() []*Book {
	var out []*Book
	for _, name := range []string{"tarnside", "neutral"} {
		raw, err := shipped.ReadFile("books/" + name + ".yaml")
		if err != nil {
			panic(err)
		}
		b, err := ReadBook(raw)
		if err != nil {
			panic(fmt.Sprintf("books/%s.yaml: %v", name, err)) // a test reads them all
		}
		out = append(out, b)
	}
	return out
})
