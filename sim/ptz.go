package sim

import (
	"fmt"
	"slices"
	"sync"
	"unlatch/core/stream/camera"
)

// A PTZ is a camera's moving part.
type PTZ struct {
	Home camera.Position `yaml:"home"` // where it looks at the start, and by GotoHomePosition
	// Defect is "mute" for one that never says where it looks, "relative" for one that cannot be sent to a position, "stuck" for one that
	// moves once and no more.
	Defect string `yaml:"defect"`
}

// moves is where a camera looks.
type moves struct {
	mu     sync.Mutex
	at     *camera.Position // nil for home
	moving bool
	count  int
}

func (d *device) looks() (at camera.Position, moving bool) {
	d.moves.mu.Lock()
	defer d.moves.mu.Unlock()
	if d.moves.at == nil {
		return d.PTZ.Home, d.moves.moving
	}
	return *d.moves.at, d.moves.moving
}

// Looks returns where the device looks, and how often it was moved.
func (l Look) Looks() (at camera.Position, moved int) {
	at, _ = l.d.looks()
	l.d.moves.mu.Lock()
	defer l.d.moves.mu.Unlock()
	return at, l.d.moves.count
}

// ptzService answers the PTZ service (ONVIF PTZ Service Specification §5).
func (d *device) ptzService(o operation) (string, *fault) {
	const space = "http://www.onvif.org/ver10/tptz/PanTiltSpaces/"
	ranges := "<T:XRange><T:Min>-1</T:Min><T:Max>1</T:Max></T:XRange><T:YRange><T:Min>-1</T:Min><T:Max>1</T:Max></T:YRange>"
	switch o.name {
	case "GetNodes":
		absolute := "<T:AbsolutePanTiltPositionSpace><T:URI>" + space + "PositionGenericSpace</T:URI>" + ranges +
			"</T:AbsolutePanTiltPositionSpace>"
		if d.PTZ.Defect == "relative" {
			absolute = ""
		}
		return `<X:PTZNode token="node"><T:Name>head</T:Name><T:SupportedPTZSpaces>` + absolute +
			"<T:RelativePanTiltTranslationSpace><T:URI>" + space + "TranslationGenericSpace</T:URI>" + ranges +
			"</T:RelativePanTiltTranslationSpace></T:SupportedPTZSpaces><T:HomeSupported>true</T:HomeSupported></X:PTZNode>", nil
	case "GetStatus":
		at, moving := d.looks()
		word := map[bool]string{true: "MOVING", false: "IDLE"}[moving]
		position := fmt.Sprintf(`<T:Position><T:PanTilt x="%g" y="%g"/><T:Zoom x="%g"/></T:Position>`, at.Pan, at.Tilt, at.Zoom)
		if d.PTZ.Defect == "mute" {
			position = ""
		}
		return "<X:PTZStatus>" + position + "<T:MoveStatus><T:PanTilt>" + word + "</T:PanTilt></T:MoveStatus></X:PTZStatus>", nil
	case "AbsoluteMove", "GotoHomePosition":
		to := d.PTZ.Home
		if o.name == "AbsoluteMove" {
			var x struct {
				PanTilt struct {
					X float64 `xml:"x,attr"`
					Y float64 `xml:"y,attr"`
				} `xml:"PanTilt"`
				Zoom struct {
					X float64 `xml:"x,attr"`
				} `xml:"Zoom"`
			}
			if d.PTZ.Defect == "relative" || !element(o.body, "Position", &x) || x.PanTilt.X < -1 || x.PanTilt.X > 1 {
				return "", invalid("ter:InvalidPosition", "It cannot be sent there")
			}
			to = camera.Position{Pan: x.PanTilt.X, Tilt: x.PanTilt.Y, Zoom: x.Zoom.X}
		}
		d.moves.mu.Lock()
		defer d.moves.mu.Unlock()
		d.moves.count++
		if d.PTZ.Defect == "stuck" && d.moves.count > 1 {
			return "", nil
		}
		d.moves.at, d.moves.moving = &to, true
		d.world.group.Go(func() error { d.turn(to); return nil })
		return "", nil
	}
	return unsupported(o)
}

// turn shows what the camera sees from where it looks now. It moves until that is drawn.
func (d *device) turn(to camera.Position) {
	d.setting.Lock()
	defer d.setting.Unlock()
	list := slices.Clone(d.configured())
	for i := range list {
		list[i].format.Pan = int((to.Pan - d.PTZ.Home.Pan) * float64(list[i].format.Width))
	}
	if f := d.resend(list); f != nil {
		d.world.options.Log.Warn("a stand-in cannot be turned", "device", d.Name, "err", f.reason)
	}
	d.moves.mu.Lock()
	defer d.moves.mu.Unlock()
	d.moves.moving = d.moves.at != nil && *d.moves.at != to
}
