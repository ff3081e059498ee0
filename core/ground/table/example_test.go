package table_test

import (
	"fmt"

	"unlatch/core/ground/table"
)

func ExampleCSV() {
	cells, _ := table.CSV([]byte("Name;Address\nPlatform clock;192.0.2.7\n"))
	columns, first := table.Columns(cells, map[string][]string{"name": {"name"}, "addr": {"address", "ip"}})
	for _, row := range cells[first:] {
		for i, cell := range row {
			fmt.Println(columns[i], "=", cell)
		}
	}
	// Output:
	// name = Platform clock
	// addr = 192.0.2.7
}
