package supportnote_test

import (
	"fmt"
	"time"

	"unlatch/core/decide/supportnote"
)

func ExampleNote_Text() {
	fmt.Println(supportnote.Note{Device: "Footbridge", Program: "Unlatch",
		At:      time.Date(2026, 3, 1, 9, 30, 0, 0, time.UTC),
		Facts:   []supportnote.Fact{{Name: "Model", Value: "V4"}},
		Summary: "It accepts PLAY and sends nothing."}.Text())
	// Output:
	// Support note: Footbridge
	// 2026-03-01 09:30:00 (UTC), by Unlatch
	//
	// THE DEVICE
	//   Model              V4
	//
	// WHAT WAS FOUND
	//   It accepts PLAY and sends nothing.
}
