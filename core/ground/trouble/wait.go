package trouble

// A Wait is what a picture waits for that nothing stands in the way of.
type Wait string

// What pictures wait for.
const (
	WaitsToConnect Wait = "connect" // the target, which is connecting to the camera
	WaitsForFetch  Wait = "fetch"   // a screen that has not fetched the list
	WaitsForScreen Wait = "screen"  // a screen that has the list and does not show the camera yet
	WaitsForPerson Wait = "person"  // somebody who looks, where the target cannot be asked
)
