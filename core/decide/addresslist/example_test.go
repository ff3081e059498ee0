package addresslist_test

import (
	"fmt"

	"unlatch/core/decide/addresslist"
)

func ExampleMatch() {
	rows, _, _ := addresslist.Parse([][]string{{"name", "address"}, {"Platform clock", "192.0.2.7"}, {"Footbridge", "192.0.2.8"}})
	r := addresslist.Match(rows, []addresslist.Heard{{ID: "a", Addr: "192.0.2.7"}, {ID: "b", Addr: "192.0.2.99"}})
	fmt.Println(len(r.Found), "found; missing:", r.Missing[0].Name, "; unexpected:", r.Unexpected)
	// Output: 1 found; missing: Footbridge ; unexpected: [b]
}
