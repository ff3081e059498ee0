package latch

import (
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/trouble"
)

// GridRow is what a sign-in opens of one service of a device.
type GridRow struct {
	Service string `json:"service" doc:"device service, a stream's tier, snapshot, or web page"`
	State   string `json:"state" enum:"opens,refused,locked,off,anyone,unknown" doc:"what came of asking; unknown: not asked yet"`
	SignIn  string `json:"sign_in,omitempty" doc:"the keyring entry that opens it"`
	Whose   string `json:"whose,omitempty" doc:"whose sign-in it is: the device's, the streams' own, or the recorder's"`
	User    string `json:"user,omitempty"`
	Level   string `json:"level,omitempty" doc:"of that user, by the device's own word"`
	Scheme  string `json:"scheme,omitempty" doc:"how it was taken"`
	Note    string `json:"note,omitempty"`
}

// Grid says for each service of a device which sign-in opens it, at which level and in which way.
func (st *Status) Grid() []GridRow {
	in := st.SignedIn
	if in == nil {
		return nil
	}
	whose := "the camera's"
	if st.Device.Via != nil {
		whose = "the recorder's"
	} else if st.Device.Kind == "recorder" {
		whose = "its own"
	}
	var rows []GridRow
	if !in.StreamOnly {
		rows = append(rows, GridRow{Service: "device service", State: stateOf(in.Diagnosis, in.Open), SignIn: in.Label, Whose: whose,
			User: in.User, Level: in.Level, Scheme: in.Scheme, Note: note(in.Diagnosis)})
	}
	for _, s := range st.Streams {
		row := GridRow{Service: s.Role, State: "unknown", SignIn: in.Label, User: in.User, Whose: whose, Level: in.Level}
		if k := st.StreamKey; k != nil {
			row.SignIn, row.User, row.Whose, row.Level = k.Label, k.User, "the streams' own", ""
			if k.Made {
				row.Level = "User"
			}
		}
		if p, played := st.Proofs[s.Role]; played {
			row.State, row.Scheme, row.Note = stateOf(p.Diagnosis, p.Auth == "none" && p.OK), p.Auth, note(p.Diagnosis)
		}
		if row.State == "unknown" || row.State == "refused" || row.State == "anyone" {
			row.SignIn, row.User, row.Whose, row.Level = "", "", "", ""
		}
		rows = append(rows, row)
	}
	for _, kind := range []string{"snapshot", "mjpeg"} {
		if p, asked := st.Pictures[kind]; asked && !p.None {
			rows = append(rows, gridRow(kind, p.Label, p.Scheme, p.Diagnosis, in, whose))
		}
	}
	if w := st.Web; w != nil {
		rows = append(rows, gridRow("web page", w.Label, w.Scheme, w.Diagnosis, in, whose))
	}
	return rows
}

func gridRow(service, label, scheme string, d *diagnose.Diagnosis, in *evidence.SignedIn, whose string) GridRow {
	row := GridRow{Service: service, State: stateOf(d, label == ""), SignIn: label, Scheme: scheme, Note: note(d)}
	if row.State == "opens" {
		row.Whose, row.User, row.Level = whose, in.User, in.Level
	}
	return row
}

func note(d *diagnose.Diagnosis) string {
	if d == nil {
		return ""
	}
	return d.Summary
}

func stateOf(d *diagnose.Diagnosis, anyone bool) string {
	switch {
	case d == nil && anyone:
		return "anyone"
	case d == nil:
		return "opens"
	}
	switch d.Cause {
	case trouble.WrongSignIn, trouble.NoSignIn, trouble.StreamRefuses, trouble.LevelTooLow, trouble.SchemeUnknown:
		return "refused"
	case trouble.Locked, trouble.HeldBack:
		return "locked"
	case trouble.StreamsOff, trouble.PortClosed, trouble.PathUnknown:
		return "off"
	}
	return "unknown"
}
