package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"net"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/picturematch"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/viabridge"
	"unlatch/sim/scene"
	"unlatch/store"
)

const (
	patchedCameras = 64
	patchedDelay   = 200 // ms that a stand-in takes for each call
)

// patched puts 64 cameras onto a recorder and onto management software, confirmed. The floor is the target's own time for so many: the same
// entries put by the bare client, one after the other.
func patched(ctx context.Context, _ *scene.Library) ([]figure, error) {
	scenario := fmt.Sprintf(`
name: patched
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: East, maker: corvane, model: V4, address: 127.62.17.10, count: %d, scene: viaduct, caption: "", streams: [{width: 160,
       height: 90, fps: 5, kbps: 60, gop: 5}]}
targets:
`, patchedCameras)
	at := map[string]string{}
	for i, kind := range []string{"hybrid", "software", "hybrid"} {
		name := []string{"recorder", "software", "floor"}[i]
		at[name] = fmt.Sprintf("http://127.62.17.%d:8081", 201+i)
		scenario += fmt.Sprintf("  - {name: %s, kind: %s, address: 127.62.17.%d, port: 8081, user: desk, secret: bench, slots: %d, "+
			"delay_ms: %d}\n", name, kind, 201+i,
			patchedCameras, patchedDelay)
	}
	r, err := newRig(ctx, scenario, "127.62.17.0/25")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	if _, _, err := r.open(ctx, patchedCameras); err != nil {
		return nil, err
	}
	floor, err := bareFloor(ctx, at["floor"])
	if err != nil {
		return nil, err
	}
	key, err := r.store.SignIns.Add(ctx, signin.New{Label: "desk", User: "desk", Secret: signin.NewSecret("bench"),
		Terms: signin.Terms{Purpose: signin.Target}})
	if err != nil {
		return nil, err
	}
	devices, err := r.store.Devices.List(ctx, r.site.ID)
	if err != nil {
		return nil, err
	}
	for i := range devices {
		if err := r.store.Devices.Rename(ctx, devices[i].ID, fmt.Sprintf("Camera %d", i+1)); err != nil {
			return nil, err
		}
	}
	var out []figure
	for _, name := range []string{"software", "recorder"} {
		took, confirmed, err := r.placeAll(ctx, name, at[name], key, devices)
		if err != nil {
			return nil, err
		}
		out = append(out, figure{fmt.Sprintf("%d cameras onto %s, placed and confirmed with its picture (%d ms a call); %d confirmed",
			patchedCameras, name, patchedDelay, confirmed),
			fmt.Sprintf("%.1f s", took.Seconds()), fmt.Sprintf("%.1f s its own time for so many", floor.Seconds()), fmt.Sprintf("%.2f",
				took.Seconds()/floor.Seconds()), atMost(1.3, took.Seconds()/floor.Seconds(), "")})
	}
	pictures, err := compared()
	return append(out, pictures...), err
}

// placeAll puts devices onto a target, and returns how long that took and how many the target has confirmed.
func (r *rig) placeAll(ctx context.Context, name, at string, key uuid.UUID, devices []store.Device) (took time.Duration, confirmed int,
	err error) {
	reach := netip.MustParseAddrPort(at[len("http://"):])
	id := uuid.Must(uuid.NewV7())
	if err := r.store.Targets.Put(ctx, r.site.ID, act.PutTarget{ID: id, New: true, Reach: []netip.AddrPort{reach},
		TargetForm: act.TargetForm{Kind: viabridge.Kind, Name: name, Address: at, SignIn: &key}}); err != nil {
		return 0, 0, err
	}
	agreed := act.Agreed{Target: id, Secrets: []target.Secret{target.OwnSignIn, target.CameraSignIn}}
	if err := r.store.Targets.Agree(ctx, act.Person{Name: "bench"}, agreed); err != nil {
		return 0, 0, err
	}
	var wish []act.Wish
	work := command.Work{Kind: "place"}
	for _, d := range devices {
		if d.Status.Device.Stray {
			continue
		}
		wish = append(wish, act.Wish{Device: d.ID, Target: id, Slot: fmt.Sprint(len(wish) + 1)})
		work.Devices = append(work.Devices, command.OnDevice{Device: d.ID, Do: command.Device{Place: &command.Place{Target: id}}})
	}
	if err := r.store.Targets.Wish(ctx, wish); err != nil {
		return 0, 0, err
	}
	if took, err = r.carryOut(ctx, work); err != nil {
		return 0, 0, err
	}
	now, err := r.store.Devices.List(ctx, r.site.ID)
	if err != nil {
		return 0, 0, err
	}
	for i := range now {
		for _, p := range now[i].Status.Placements {
			if p.Target == id && p.Confirmed {
				confirmed++
			}
		}
	}
	return took, confirmed, nil
}

// bareFloor puts as many entries by the bare client, one after the other.
func bareFloor(ctx context.Context, at string) (time.Duration, error) {
	c, err := bridge.New(at, bridge.Options{Dial: &net.Dialer{}, SignIn: signin.SignIn{User: "desk", Secret: signin.NewSecret("bench")}})
	if err != nil {
		return 0, err
	}
	defer c.Close()
	began := time.Now()
	for n := range patchedCameras {
		_, err := c.Put(ctx, fmt.Sprint(n+1), bridge.Entry{Key: fmt.Sprint("urn:", n), Name: fmt.Sprint("Camera ", n),
			Streams: []bridge.Stream{{Role: "main", URL: "rtsp://127.62.17.10:1/x"}}})
		if err != nil {
			return 0, err
		}
	}
	return time.Since(began), nil
}

// compared measures what comparing a target's picture with a camera's takes, once both are decoded.
func compared() ([]figure, error) {
	draw := func(seed float64) *image.RGBA {
		img := image.NewRGBA(image.Rect(0, 0, 640, 360))
		for y := range 360 {
			for x := range 640 {
				v := 128 + 60*math.Sin(float64(x)/(20+seed)) + 60*math.Cos(float64(y)/(15+seed*2))
				img.Set(x, y, color.Gray{Y: uint8(min(max(v, 0), 255))})
			}
		}
		return img
	}
	a, b := draw(1), draw(7)
	var raw bytes.Buffer
	if err := jpeg.Encode(&raw, a, nil); err != nil {
		return nil, err
	}
	var decoding, printing []time.Duration
	for range 41 {
		began := time.Now()
		img, err := jpeg.Decode(bytes.NewReader(raw.Bytes()))
		if err != nil {
			return nil, err
		}
		decoding = append(decoding, time.Since(began))
		began = time.Now()
		picturematch.Compare(picturematch.Of(img), picturematch.Of(b))
		printing = append(printing, time.Since(began))
	}
	// A time in milliseconds would judge the machine. Comparing stays small beside the decoding that has to come before it.
	return []figure{{"Comparing two decoded pictures of 640x360, both boiled down", fmt.Sprintf("%.2f ms", median(printing).Seconds()*1000),
		fmt.Sprintf("%.2f ms decoding one", median(decoding).Seconds()*1000), fmt.Sprintf("%.2f",
			median(printing).Seconds()/median(decoding).Seconds()),
		atMost(0.6, median(printing).Seconds()/median(decoding).Seconds(), " of decoding one")}}, nil
}
