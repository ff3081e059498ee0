package signin

// A Purpose is what of a device a sign-in opens.
type Purpose string

// What a device may keep users for; "" is all of them.
const (
	DeviceService Purpose = "device"
	Streams       Purpose = "stream"
	WebPage       Purpose = "web"
	Target        Purpose = "target" // a target that is no device of a site: never tried on any device
)

// A Result is how a try of a sign-in ended.
type Result string

const (
	Opened   Result = "opened"
	Refused  Result = "refused"
	NoAnswer Result = "no answer" // the device answered and did not judge the sign-in
	Unseen   Result = "unseen"    // it went out and no answer was seen: it counts as refused until one opens
	Shut     Result = "locked"    // the device judges no sign-in for a while
)
