package recipe

import (
	"fmt"

	"unlatch/core/ground/trouble"
)

// An AnsweredError means that a device has answered a request of a command otherwise than the command says that it would.
type AnsweredError struct {
	Path   string
	Status int
}

func (e *AnsweredError) Error() string {
	return fmt.Sprintf("%s was answered with %d, and not as the command says that it would be", e.Path, e.Status)
}

// An ExcludedError means that another setting is on at the device, together with which the command must not be on.
type ExcludedError struct{ Other, Is string }

func (e *ExcludedError) Error() string {
	return fmt.Sprintf("%q is %s on the device, and both must not be on at the same time", e.Other, e.Is)
}

// A NothingError means that there is nothing of a command to take back.
type NothingError struct{ Command string }

func (e *NothingError) Error() string {
	return fmt.Sprintf("Unlatch has changed nothing of %q on this device that it could take back", e.Command)
}

// A NoWayBackError means that the command could not put back what the device is set to now.
type NoWayBackError struct{ Err error }

func (e *NoWayBackError) Error() string {
	return "what it is set to now could not be put back: " + e.Err.Error()
}

// Unwrap returns what is the matter with the present setting.
func (e *NoWayBackError) Unwrap() error { return e.Err }

// A NoWebError means that no web side of a device is known.
type NoWebError struct{}

func (e *NoWebError) Error() string { return "no web side of the device is known" }

// Trouble says that the device answers otherwise than the command says.
func (e *AnsweredError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandRefused, Facts: trouble.Facts{"path": e.Path, "status": e.Status}}
}

// Trouble says what stands in the way.
func (e *ExcludedError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandExcluded, Facts: trouble.Facts{"other": e.Other, "is": e.Is}}
}

// Trouble says that a page does not show what the command reads there.
func (e *NotFoundError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandUnread, Facts: trouble.Facts{"what": e.What, "path": e.Path}}
}

// Trouble says that a value is out of its bounds.
func (e *SettingError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandRefused, Form: "value"}
}

// Trouble says that there is nothing to take back.
func (e *NothingError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandRefused, Form: "nothing"}
}

// Trouble says that what is there could not be put back.
func (e *NoWayBackError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandUnread, Form: "no way back"}
}

// Trouble says that no page is known to send the command to.
func (e *NoWebError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.CommandRefused, Form: "no page"}
}
