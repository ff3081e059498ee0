package yamlfile_test

import (
	"fmt"

	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/yamlfile"
)

func ExampleReadBook() {
	root, _ := yamlfile.Root([]byte("name: Yard\nlamps: [oil, gas]\n"), "a book of lamps", 1<<10)
	book, err := yamlfile.ReadBook(root, yamlfile.BookForm[string]{What: "a book of lamps", Key: "lamps", Most: 10,
		Read: func(n *yaml.Node) (string, error) { return n.Value, nil },
		Name: func(lamp string) string { return lamp }})
	fmt.Println(book.Name, book.List, err)
	// Output: Yard [oil gas] <nil>
}
