package demo

import (
	"bytes"
	"context"
	"image"
	"image/color"
	"image/png"
	"strings"

	"github.com/google/uuid"
	"golang.org/x/image/draw"
	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"

	"unlatch/core/decide/act"
	"unlatch/core/decide/siteplan"
)

// planName is what the plan of the station is called.
const planName = "Station"

// stationMarks are where the station's cameras hang and which way they look, by the last two numbers of their addresses.
var stationMarks = map[string]struct{ x, y, direction float64 }{
	"1.11": {0.30, 0.47, 120}, "1.12": {0.62, 0.40, 200}, "1.13": {0.22, 0.26, 160}, "1.14": {0.88, 0.62, 300},
	"1.15": {0.90, 0.22, 230}, "1.16": {0.06, 0.66, 60}, "1.31": {0.40, 0.24, 180}, "1.32": {0.30, 0.20, 90}, "1.34": {0.72, 0.80, 330},
}

// markPlan draws the plan of the station and marks some of its cameras on it, once.
func (r *railway) markPlan(ctx context.Context, station uuid.UUID) error {
	if have, err := r.desk.Store.SitePlans.List(ctx, station); err != nil || len(have) > 0 {
		return err
	}
	raw, err := drawStation()
	if err != nil {
		return err
	}
	id := uuid.Must(uuid.NewV7())
	if err := r.do(ctx, act.AddSitePlan{Site: station, ID: id, Name: planName, Raw: raw}); err != nil {
		return err
	}
	devices, err := r.desk.Store.Devices.List(ctx, station)
	if err != nil {
		return err
	}
	marks := act.MarkOnSitePlan{Site: station, Plan: id}
	for i := range devices {
		d := &devices[i]
		if at, known := stationMarks[strings.TrimPrefix(d.Addr, r.network+".")]; known && d.Via == nil {
			marks.Marks = append(marks.Marks, siteplan.Mark{Device: d.ID, X: at.x, Y: at.y, Direction: &at.direction})
		}
	}
	return r.do(ctx, marks)
}

// drawStation draws the station seen from above: its building, two platforms, the tracks, the footbridge and the goods yard.
func drawStation() ([]byte, error) {
	img := image.NewRGBA(image.Rect(0, 0, 800, 450))
	fill := func(x0, y0, x1, y1 int, c color.Color) { // in half pixels
		draw.Draw(img, image.Rect(x0/2, y0/2, x1/2, y1/2), image.NewUniform(c), image.Point{}, draw.Src)
	}
	paper, ink := color.RGBA{0xfb, 0xfc, 0xfb, 0xff}, color.RGBA{0x15, 0x30, 0x2a, 0xff}
	pale, stone := color.RGBA{0xe7, 0xec, 0xe9, 0xff}, color.RGBA{0xcd, 0xd8, 0xd2, 0xff}
	room := func(x0, y0, x1, y1 int, inside color.Color) {
		fill(x0-4, y0-4, x1+4, y1+4, ink)
		fill(x0, y0, x1, y1, inside)
	}
	fill(0, 0, 1600, 900, paper)
	for _, y := range []int{505, 560, 690} { // tracks with their sleepers
		for x := 0; x < 1600; x += 22 {
			fill(x, y-9, x+6, y+9, stone)
		}
		fill(0, y-6, 1600, y-4, ink)
		fill(0, y+4, 1600, y+6, ink)
	}
	room(140, 390, 1420, 480, pale) // platforms
	room(300, 590, 1240, 660, pale)
	room(180, 120, 760, 340, paper) // the building, with its rooms
	for _, x := range []int{380, 560} {
		fill(x, 120, x+4, 340, ink)
	}
	room(970, 380, 1010, 670, stone) // the footbridge
	room(1330, 540, 1450, 640, paper)
	room(1380, 120, 1480, 220, pale)
	room(1000, 720, 1500, 850, pale)
	words := font.Drawer{Dst: img, Src: image.NewUniform(ink), Face: basicfont.Face7x13}
	for _, w := range []struct {
		x, y int
		text string
	}{{200, 150, "BOOKING HALL"}, {400, 150, "TICKETS"}, {580, 150, "PARCELS"}, {160, 420, "PLATFORM 1"}, {320, 620, "PLATFORM 2"},
		{1020, 400, "FOOTBRIDGE"}, {1345, 565, "SIGNAL BOX"}, {1395, 145, "TOWER"}, {1020, 745, "GOODS YARD"},
		{20, 640, "TO THE VIADUCT"}} {
		words.Dot = fixed.P(w.x/2, w.y/2+4)
		words.DrawString(w.text)
	}
	var b bytes.Buffer
	err := png.Encode(&b, img)
	return b.Bytes(), err
}
