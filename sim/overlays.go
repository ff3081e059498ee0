package sim

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"unlatch/core/wire/onvif"
)

// texts are what a device draws into its pictures.
type texts struct {
	mu   sync.Mutex
	list []drawn
	made int
}

// A drawn is one of them.
type drawn struct {
	Token string `xml:"token,attr"`
	At    string `xml:"Position>Type"`
	Kind  string `xml:"TextString>Type"`
	Plain string `xml:"TextString>PlainText"`
	Size  int    `xml:"TextString>FontSize"`
}

func (t *texts) all() []drawn {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.list)
}

// Texts returns the plain texts that the device draws.
func (l Look) Texts() (out []string) {
	for _, t := range l.d.texts.all() {
		out = append(out, strings.TrimSpace(t.Kind+" "+t.Plain))
	}
	return out
}

// overlayOperation answers what the two Media services say of texts in the picture.
func (d *device) overlayOperation(o operation) (string, *fault) {
	if d.Texts == 0 {
		return unsupported(o)
	}
	if d.Defects.KeepsTexts && o.name == "DeleteOSD" {
		return "", nil
	}
	answer, f := d.texts.operation(o, d.Texts)
	if f == nil && !strings.HasPrefix(o.name, "Get") {
		f = d.redraw()
	}
	return answer, f
}

// redraw sends pictures with the texts that are drawn now in place of the caption.
func (d *device) redraw() *fault {
	var plain []string
	for _, x := range d.texts.all() {
		if x.Kind == "Plain" {
			plain = append(plain, x.Plain)
		}
	}
	list := slices.Clone(d.configured())
	for i := range list {
		if list[i].format.Caption = strings.Join(plain, " · "); len(plain) == 0 {
			list[i].format.Caption = *d.Caption
		}
	}
	return d.resend(list)
}

func (t *texts) operation(o operation, most int) (string, *fault) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch o.name {
	case "GetOSDOptions":
		return fmt.Sprintf(`<X:OSDOptions><T:MaximumNumberOfOSDs Total="%d"/><T:Type>Text</T:Type><T:PositionOption>UpperLeft</T:PositionOption>`+
			`<T:PositionOption>UpperRight</T:PositionOption><T:PositionOption>LowerLeft</T:PositionOption>`+
			`<T:PositionOption>LowerRight</T:PositionOption>`+
			`<T:TextOption><T:Type>Plain</T:Type><T:Type>DateAndTime</T:Type><T:FontSizeRange><T:Min>12</T:Min><T:Max>48</T:Max></T:FontSizeRange>`+
			`</T:TextOption></X:OSDOptions>`, most), nil
	case "GetOSDs":
		var b strings.Builder
		for _, x := range t.list {
			fmt.Fprintf(&b, `<X:OSDs token="%s"><T:VideoSourceConfigurationToken>vsc</T:VideoSourceConfigurationToken>`+
				`<T:Type>Text</T:Type><T:Position><T:Type>%s</T:Type></T:Position>`+
				`<T:TextString><T:Type>%s</T:Type><T:FontSize>%d</T:FontSize><T:PlainText>%s</T:PlainText></T:TextString></X:OSDs>`, x.Token,
				x.At, x.Kind,
				x.Size, onvif.Escape(x.Plain))
		}
		return b.String(), nil
	case "CreateOSD", "SetOSD":
		var x drawn
		if !element(o.body, "OSD", &x) || x.Kind != "Plain" && x.Kind != "DateAndTime" || x.Size > 48 {
			return "", invalid("ter:ConfigModify", "The text cannot be drawn")
		}
		i := slices.IndexFunc(t.list, func(y drawn) bool { return y.Token == x.Token })
		switch {
		case o.name == "SetOSD" && i < 0:
			return "", invalid("ter:NoConfig", "There is no such text")
		case o.name == "SetOSD":
			t.list[i] = x
			return "", nil
		case len(t.list) >= most:
			return "", invalid("ter:MaxOSDs", "It draws no more texts")
		}
		t.made++
		x.Token = fmt.Sprintf("osd_%d", t.made)
		t.list = append(t.list, x)
		return "<X:OSDToken>" + x.Token + "</X:OSDToken>", nil
	case "DeleteOSD":
		n := len(t.list)
		t.list = slices.DeleteFunc(t.list, func(y drawn) bool { return y.Token == o.arg("OSDToken") })
		if len(t.list) == n {
			return "", invalid("ter:NoConfig", "There is no such text")
		}
		return "", nil
	}
	return unsupported(o)
}
