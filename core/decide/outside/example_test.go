package outside_test

import (
	"fmt"

	"unlatch/core/decide/outside"
)

func ExampleForm_URL() {
	f := outside.Form{Addresses: []string{"203.0.113.7"}, Maps: []outside.Map{{Port: 20000, Inside: "192.0.2.7:554"}}}
	url, _ := f.URL("rtsp://192.0.2.7/main")
	fmt.Println(url)
	// Output: rtsp://203.0.113.7:20000/main
}
