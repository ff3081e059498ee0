package camera_test

import (
	"fmt"

	"unlatch/core/stream/camera"
)

// The largest stream is the main one, where nobody says otherwise.
func ExampleGiveRoles() {
	streams := camera.GiveRoles([]camera.Stream{
		{Token: "small", Claimed: camera.Settings{Codec: "H.264", Width: 640, Height: 360}},
		{Token: "large", Claimed: camera.Settings{Codec: "H.264", Width: 1920, Height: 1080}},
	}, nil)
	for _, s := range streams {
		fmt.Println(s.Role, s.Token)
	}
	// Output:
	// main large
	// sub small
}
