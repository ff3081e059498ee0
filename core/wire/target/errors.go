package target

import "fmt"

// A FullError says that a target has no free slot.
type FullError struct {
	Slots   int
	Blocked int    // of them blocked by what could be given up
	Why     string // one of those is blocked
}

func (e *FullError) Error() string { return fmt.Sprintf("all %d slots are taken", e.Slots) }

// A BlockedError says that a slot is blocked by what could be given up.
type BlockedError struct{ Slot, Why string }

func (e *BlockedError) Error() string { return fmt.Sprintf("%s is blocked: %s", e.Slot, e.Why) }

// A LockedSlotError says that a slot holds what may not be changed from here.
type LockedSlotError struct{ Slot, Why string }

func (e *LockedSlotError) Error() string { return fmt.Sprintf("%s is locked: %s", e.Slot, e.Why) }

// A TakenError says that another camera is in the slot that was asked for.
type TakenError struct{ Slot, By string }

func (e *TakenError) Error() string { return fmt.Sprintf("%s is taken by %q", e.Slot, e.By) }

// A GoneSlotError says that a slot is not there any more, or does not hold the camera any more.
type GoneSlotError struct{ Slot string }

func (e *GoneSlotError) Error() string {
	return fmt.Sprintf("the slot %q no longer holds this camera", e.Slot)
}

// An UnableError says that a target does not have an ability.
type UnableError struct{ Target, Ability string }

func (e *UnableError) Error() string {
	return fmt.Sprintf("%s cannot do this (%s)", e.Target, e.Ability)
}

// A TemplatesFullError says that a target holds no more templates.
type TemplatesFullError struct {
	Most int
	Path string
}

func (e *TemplatesFullError) Error() string {
	return fmt.Sprintf("all %d templates are in use and none has the path %s", e.Most, e.Path)
}

// A ThroughError says that a target takes channels of a recorder, and that the camera is on none.
type ThroughError struct{ Target string }

func (e *ThroughError) Error() string {
	return e.Target + " takes channels of a recorder, and this camera is on none yet"
}

// A RefusedBeforeError says that a target has refused the sign-in that it is given: it is not sent again by itself, so that no target is
// locked.
type RefusedBeforeError struct{ Target string }

func (e *RefusedBeforeError) Error() string {
	return e.Target + " has refused its sign-in before; it is not sent again by itself"
}
