package baseline_test

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
)

// A measure differs where it is outside its tolerance, a text where it is not the same.
func ExampleCompare() {
	hall := uuid.MustParse("00000000-0000-0000-0000-000000000001")
	state := func(firmware string, fps float64) baseline.State {
		return baseline.State{Devices: []baseline.Device{{ID: hall, Title: "Ticket hall", Facts: []baseline.Fact{
			{Field: baseline.Firmware, Value: firmware},
			{Field: baseline.Rate, Subject: "main", Of: "main", Value: fmt.Sprint(fps, " fps"), Number: fps},
		}}}}
	}
	for _, c := range baseline.Compare(state("4.1", 25), state("4.2", 24)) {
		fmt.Println(c.Title, c.Fields)
	}
	// Output: Ticket hall [Firmware: was 4.1, is 4.2.]
}
