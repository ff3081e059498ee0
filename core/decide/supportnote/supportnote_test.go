package supportnote

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/exchange"
)

func TestTheNoteIsOnePage(t *testing.T) {
	n := Note{Device: "Booking hall", At: time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC), Program: "Unlatch 0.1.0", Summary: "Played main",
		Facts: []Fact{{"Maker and model", "Lumenhythe L2 Dome"}, {"Serial", ""}},
		Finding: &diagnose.Diagnosis{Summary: "The device serves all the viewers it can.", Fix: "End an old viewer.",
			Seen: "SETUP was answered with 453"}}
	for i := range 200 {
		n.Turns = append(n.Turns, exchange.Turn{AtMS: float64(i), Asked: fmt.Sprint("OPTIONS ", i), Answer: "200 OK", Sent: "a", Got: "b"})
	}
	n.Turns[150] = exchange.Turn{AtMS: 150, TookMS: 2, Asked: "SETUP rtsp://192.0.2.7/x", Answer: "453 Not Enough Bandwidth",
		Mark: "it serves as many viewers as it can",
		Sent: "SETUP rtsp://192.0.2.7/x RTSP/1.0\nCSeq: 3", Got: strings.Repeat("line "+strings.Repeat("long ", 100)+"\n", 100)}
	n.Turns[151].Note, n.Turns[151].Sent, n.Turns[151].Answer = "the connection ended", "", ""
	text := n.Text()
	for _, want := range []string{"Support note: Booking hall\n2026-03-14 09:26:53 (UTC), by Unlatch 0.1.0\n",
		"Maker and model    Lumenhythe L2 Dome",
		"  The device serves all the viewers it can.\n  Seen: SETUP was answered with 453\n  What we would try: End an old viewer.",
		"THE EXCHANGE THAT SHOWS IT (150.0 ms after the start, answered in 2.0 ms: it serves as many viewers as it can)\n  > SETUP " +
			"rtsp://192.0.2.7/x RTSP/1.0\n  > CSeq: 3\n  < line",
		"  < … 55 more lines", "… 130 before", "!     150.0  SETUP rtsp://192.0.2.7/x -> 453 Not Enough Bandwidth (2.0 ms)",
		"      151.0  - the connection ended", "… 46 more"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "Serial")
	assert.Less(t, strings.Count(text, "\n"), 110)
	for _, l := range strings.Split(text, "\n") {
		assert.LessOrEqual(t, len([]rune(l)), wide+40)
	}
	assert.Contains(t, Note{Device: "x", Summary: "Played main"}.Text(), "WHAT WAS FOUND\n  Played main\n")
}
