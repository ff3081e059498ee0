// Package packtest makes packs for tests: the cameras of a heritage railway, as many as wanted, with all that a pack can hold.
package packtest

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/outside"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/siteplan"
	"unlatch/core/stream/capacity"
	"unlatch/core/wire/target"
)

// At is when everything in a sample happened.
var At = time.Date(2026, 3, 7, 9, 30, 0, 0, time.UTC)

// ID returns the same ID for the same name.
func ID(name string) uuid.UUID {
	sum := sha256.Sum256([]byte(name))
	id := uuid.UUID(sum[:16])
	id[6], id[8] = id[6]&0x0f|0x40, id[8]&0x3f|0x80
	return id
}

var views = []string{"Platform clock", "Footbridge", "Ticket window", "Crossing north", "Turntable", "Coal stage", "Paint shop",
	"Signal box stairs"}

// Sample returns a pack with n cameras, a recorder, a site plan, two targets, findings and waivers.
func Sample(n int) handover.Pack {
	recorder, panel := ID("recorder"), ID("panel")
	p := handover.Pack{Form: handover.Form, Site: handover.Site{ID: ID("site"), Name: "Tarn Ferry", Ranges: []string{"192.0.2.0/24"},
		Gateway: "192.0.2.1", Bits: 24, Pool: []string{"192.0.2.100-192.0.2.199"}},
		Outside: handover.Outside{Form: outside.Form{Addresses: []string{"cameras.tarnside.example"}, Pool: "20000-20099"},
			Never: []string{"192.0.2.10:80 the web page of Platform clock"}},
		Plans: []handover.Plan{{Owner: "site", Parts: map[string]string{"main": "h264,1280x720,10fps"}}}, Books: []handover.Book{},
		Capacity: &handover.Capacity{Form: capacity.UsualRecording,
			Cost: capacity.Cost{UsableBytes: 8e12, BytesPerDay: 2e11, Days: 40}},
		Findings: []ready.Finding{}, Checklist: []ready.Checked{
			{Item: ready.Item{ID: "finished", Title: "Every camera shows its picture", Ticks: "finished"}, Done: true},
			{Item: ready.Item{ID: "shown", Title: "The customer was shown how to look"}, Done: true,
				Attested: &ready.Attested{By: "Rowan", At: At}}}}
	p.State = baseline.State{Version: baseline.Version}
	plan := handover.SitePlan{ID: ID("plan"), Name: "Station", Width: 800, Height: 500, Picture: "pictures/plans/" + ID("plan").String()}
	slots := []handover.Slot{}
	for i := range n {
		c := camera(i)
		slot := handover.Slot{Token: fmt.Sprint(i + 1), Label: fmt.Sprintf("Channel %d", i+1), Is: "used", Name: c.Title, Camera: c.ID,
			State: "Connected", Schedule: &target.Schedule{Mode: "always"}}
		c.Placements = []handover.Placement{{Target: recorder, Name: "Recorder", Kind: "onvif", Slot: slot.Label, Token: slot.Token,
			Gives: []string{"main"}, State: "confirmed", Report: "Connected", Confirmed: At, Picture: fmt.Sprintf("pictures/targets/%03d.jpg", i)}}
		slots = append(slots, slot)
		turn := float64(i * 40 % 360)
		if i < 60 {
			plan.Marks = append(plan.Marks, siteplan.Mark{Device: c.ID, X: 0.05 + float64(i%10)*0.1, Y: 0.1 + float64(i/10)*0.14,
				Direction: &turn, View: 70})
		}
		p.Cameras = append(p.Cameras, c)
		p.State.Devices = append(p.State.Devices, baseline.Device{ID: c.ID, Title: c.Title, Facts: []baseline.Fact{
			{Field: baseline.Address, Value: c.Address}, {Field: baseline.Firmware, Value: c.Firmware}}})
	}
	p.Cameras = append(p.Cameras, handover.Camera{ID: recorder, Kind: "recorder", Name: "Recorder", Title: "Recorder", Address: "192.0.2.2",
		MAC: "02:00:5e:00:00:02", Maker: "Holloway", Model: "R16", Serial: "HW-1", Web: "http://192.0.2.2/"})
	p.Targets = []handover.Target{{ID: recorder, Kind: "onvif", Name: "Recorder", Is: "recorder", Device: recorder, Maker: "Holloway",
		Slots: slots, LoadKbps: 24000, LimitKbps: 80000, Days: 21}, {ID: panel, Kind: "template", Name: "Wall panel",
		Settings: map[string]string{"text": "{{range .Cameras}}{{.Name}}\n{{end}}"}}}
	p.SitePlans = []handover.SitePlan{plan}
	if n > 1 {
		p.Outside.Form.Maps = []outside.Map{{Port: 20000, Inside: p.Cameras[0].Address + ":554", Device: p.Cameras[0].ID}}
		p.Findings = []ready.Finding{{Cause: ready.ClockWrong, Things: []ready.Thing{{ID: p.Cameras[0].ID, Title: p.Cameras[0].Title,
			Detail: "+61 s"}}}, {Cause: ready.NoPlace, Things: []ready.Thing{}, Waived: []ready.Thing{{ID: p.Cameras[1].ID,
			Title: p.Cameras[1].Title, Waiver: &ready.Waiver{By: "Rowan", At: At, Reason: "it hangs on a mast outside the plan"}}}}}
	}
	return p
}

func camera(i int) handover.Camera {
	title := views[i%len(views)]
	if i >= len(views) {
		title = fmt.Sprintf("%s %d", title, i/len(views)+1)
	}
	addr := fmt.Sprintf("192.0.%d.%d", 2+i/200, 10+i%200)
	measured := func(w, h int, kbps float64) *handover.Measured {
		m := &handover.Measured{Codec: "H264", Width: w, Height: h, FPS: 10, Kbps: kbps, GOPSeconds: 2, Transport: "tcp",
			FirstPictureMS: 310, At: At}
		for s := range 10 {
			m.PerSecondKbps = append(m.PerSecondKbps, int(kbps)+(s*37+i*11)%90)
		}
		return m
	}
	return handover.Camera{ID: ID(fmt.Sprint("camera", i)), Kind: "camera", Name: title, Title: title, Address: addr,
		MAC: fmt.Sprintf("02:00:5e:00:%02x:%02x", i/256, i%256), Serial: fmt.Sprintf("CV-%05d", i), Endpoint: "urn:uuid:" + ID(title).String(),
		Maker: "Corvane", Model: "V4", Firmware: "1.4.2", Ports: []handover.Port{{Number: 80, Is: "http"}, {Number: 554, Is: "rtsp"}},
		Web: "http://" + addr + "/", SignIn: &handover.SignIn{ID: ID("key"), Label: "Station cameras", User: "admin"},
		Streams: []handover.Stream{
			{Role: "main", Token: "p0", URL: "rtsp://" + addr + ":554/media/1/main", Planned: "h264,1280x720,10fps",
				Measured: measured(1280, 720, 1800), Meets: true},
			{Role: "sub", Token: "p1", URL: "rtsp://" + addr + ":554/media/1/sub", Measured: measured(640, 360, 420)}},
		Picture: fmt.Sprintf("pictures/cameras/%03d.jpg", i)}
}

// JPEG returns a picture of a size that differs with n.
func JPEG(n, width, height int) []byte {
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			img.SetRGBA(x, y, color.RGBA{uint8(x*255/width ^ n), uint8(y * 255 / height), uint8(n * 29), 255})
		}
	}
	var b bytes.Buffer
	jpeg.Encode(&b, img, nil)
	return b.Bytes()
}

// PNG returns a plan of a building.
func PNG(width, height int) []byte {
	img := image.NewGray(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			v := uint8(250)
			if x%100 < 3 || y%100 < 3 {
				v = 160
			}
			img.SetGray(x, y, color.Gray{v})
		}
	}
	var b bytes.Buffer
	png.Encode(&b, img)
	return b.Bytes()
}
