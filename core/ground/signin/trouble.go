package signin

import (
	"time"

	"unlatch/core/ground/trouble"
)

// Trouble says that the device judges no sign-in, by its own word or because nothing else explains its answers.
func (e *LockedError) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.Locked, Until: time.Now().Add(e.Wait).Round(time.Second), Seen: e.Seen}
	if !e.Hinted {
		t.Form, t.Facts = "no word", trouble.Facts{"minutes": int(e.Wait.Minutes())}
	}
	return t
}

// Trouble says that another try could lock the device, or that it has said that it is locked.
func (e *HeldBackError) Trouble() trouble.Trouble {
	if e.Locked {
		return trouble.Trouble{Cause: trouble.Locked, Form: "waiting", Until: e.Until}
	}
	return trouble.Trouble{Cause: trouble.HeldBack, Facts: trouble.Facts{"wrong": e.Wrong}, Until: e.Until}
}

// Trouble says that the sign-in would have been readable, and who has to agree to what.
func (e *ReadableError) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.Readable, Facts: trouble.Facts{"scheme": e.Scheme, "channel": e.Channel.At},
		Wanted: &trouble.Wanted{Service: string(e.Service), Scheme: e.Scheme, Certificate: e.Channel.Certificate}}
	if e.Channel.At != "" {
		t.Wanted.At = e.Channel.String()
	}
	switch {
	case e.Agreed:
		t.Cause = trouble.ReadableWaits
	case e.Channel.TLS():
		t.Form = "tls"
	}
	return t
}

// Trouble says that a weaker scheme is wanted than the one in which the sign-in was taken before.
func (e *WeakerError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.SchemeWeaker, Facts: trouble.Facts{"now": e.Now, "before": e.Before},
		Wanted: &trouble.Wanted{Service: string(e.Service), Scheme: e.Now, Before: e.Before}}
}
