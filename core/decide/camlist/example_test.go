package camlist_test

import (
	"context"
	"fmt"

	"unlatch/core/decide/camlist"
)

func ExampleRender() {
	out, err := camlist.Render(context.Background(), camlist.Source{Each: true, Text: "{{.Number}} {{.Name}} {{.Address}}\n"}, "Works",
		[]camlist.Camera{{Number: 1, Name: "Turntable", Address: "192.0.2.7"}})
	fmt.Print(string(out), err)
	// Output:
	// 1 Turntable 192.0.2.7
	// <nil>
}
