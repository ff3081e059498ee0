package intake_test

import (
	"fmt"

	"unlatch/core/stream/intake"
)

func ExampleReadBook() {
	book, err := intake.ReadBook([]byte("name: Own\nintakes:\n  - name: Hall panel\n    codecs: [H.264]\n    max_size: 1280x720\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	panel, found := book.Find("Hall panel")
	fmt.Println(panel.Name, panel.MaxSize, found)
	// Output: Hall panel 1280x720 true
}
