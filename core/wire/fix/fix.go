// Package fix mends what stands in the way of a device's streams, by the device's own services: each change is confirmed by reading
// it back, and tells what undo needs.
package fix

import (
	"context"
	"fmt"
	"slices"
	"time"

	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/onvif"
)

// A NotKeptError means that the device accepted a change and has, read back, not made it.
type NotKeptError struct{ What, Wanted, Got string }

func (e *NotKeptError) Error() string {
	return fmt.Sprintf("the device accepted the change and did not make it: %s should be %s and is %s", e.What, e.Wanted, e.Got)
}

// StreamsOn reads whether the RTSP service is on (Core Specification §8.2.13).
func StreamsOn(ctx context.Context, c *onvif.Client) (bool, error) {
	p, err := rtsp(ctx, c)
	return p.Enabled, err
}

// HasUser reads whether the device has a user of a name (Core Specification §8.4.3).
func HasUser(ctx context.Context, c *onvif.Client, user string) (bool, error) {
	users, err := c.Users(ctx)
	return slices.ContainsFunc(users, func(u onvif.User) bool { return u.Name == user }), err
}

// SetStreams switches the RTSP service on or off (Core Specification §8.2.13) and reads it back; its ports stay. before is what it was.
func SetStreams(ctx context.Context, c *onvif.Client, on bool) (before bool, err error) {
	p, err := rtsp(ctx, c)
	if err != nil {
		return false, err
	}
	before = p.Enabled
	if before == on {
		return before, nil
	}
	p.Enabled = on
	if err := c.SetProtocol(ctx, p); err != nil {
		return before, err
	}
	after, err := rtsp(ctx, c)
	if err == nil && after.Enabled != on {
		err = &NotKeptError{What: "the stream service", Wanted: OnOff(on), Got: OnOff(after.Enabled)}
	}
	return before, err
}

// OnOff returns how the state of a service is worded.
func OnOff(on bool) string { return map[bool]string{true: "on", false: "off"}[on] }

func rtsp(ctx context.Context, c *onvif.Client) (camera.Protocol, error) {
	list, err := c.Protocols(ctx)
	if err != nil {
		return camera.Protocol{}, err
	}
	for _, p := range list {
		if p.Name == "RTSP" {
			return p, nil
		}
	}
	return camera.Protocol{}, &onvif.Fault{Codes: []string{"Sender", "ServiceNotSupported"},
		Reason: "the device names no RTSP service among its network protocols"}
}

// Tolerance is how far a clock that was set may be from what it was set to: setting goes by whole seconds and takes a moment.
const Tolerance = 3 * time.Second

// SetClock makes the device's clock run ahead of ours by skew, normally nought, and reads it back. before is by how much it ran ahead.
func SetClock(ctx context.Context, c *onvif.Client, skew time.Duration) (before, after time.Duration, err error) {
	if before, err = c.Clock(ctx); err != nil {
		return 0, 0, err
	}
	if err := c.SetClock(ctx, time.Now().Add(skew), false, ""); err != nil {
		return before, before, err
	}
	if after, err = c.Clock(ctx); err == nil && (after-skew).Abs() > Tolerance {
		err = &NotKeptError{What: "the clock", Wanted: "right", Got: fmt.Sprintf("off by %s", after.Round(time.Second))}
	}
	return before, after, err
}

// MakeStreamUser makes a user of the lowest level that may watch (Core Specification §8.4.4), or gives the one of that name the password,
// and finds it among the device's users. existed tells which.
func MakeStreamUser(ctx context.Context, c *onvif.Client, user string, secret signin.Secret) (existed bool, err error) {
	users, err := c.Users(ctx)
	if err != nil {
		return false, err
	}
	level := "User"
	for _, u := range users {
		if u.Name == user {
			existed, level = true, u.Level
		}
	}
	if existed {
		if level == "Administrator" {
			return true, &onvif.Fault{Codes: []string{"Sender", "UsernameClash"},
				Reason: "an administrator has this name; choose another for the stream user"}
		}
		err = c.SetUser(ctx, user, secret, level)
	} else {
		err = c.CreateUser(ctx, user, secret, level)
	}
	if err != nil {
		return existed, err
	}
	return existed, checkUser(ctx, c, user, true)
}

// RemoveUser takes a user away (Core Specification §8.4.5) and sees to it that it is gone. One that is gone already is no error.
func RemoveUser(ctx context.Context, c *onvif.Client, user string) error {
	if there, err := HasUser(ctx, c, user); err != nil || !there {
		return err
	}
	if err := c.DeleteUser(ctx, user); err != nil {
		return err
	}
	return checkUser(ctx, c, user, false)
}

func checkUser(ctx context.Context, c *onvif.Client, user string, want bool) error {
	got, err := HasUser(ctx, c, user)
	if err != nil {
		return err
	}
	if got != want {
		say := map[bool]string{true: "there", false: "not there"}
		return &NotKeptError{What: fmt.Sprintf("the user %q", user), Wanted: say[want], Got: say[got]}
	}
	return nil
}
