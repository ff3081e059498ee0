package doctor

import "time"

// A Relay is a stream that is served on, as its worker told of it last.
type Relay struct {
	Path    string
	Site    string
	For     string    // who takes it
	Problem string    // why the camera did not play; "" where it did, or was not asked to
	Told    time.Time // when a worker told of it last; when it was made where none has
}

// untoldAfter is after how long a relay of which no worker tells counts as served by none: a worker tells every few seconds.
const untoldAfter = time.Minute

func (j *judge) relays(list []Relay) {
	well := 0
	for _, r := range list {
		switch {
		case j.at.Sub(r.Told) > untoldAfter:
			j.ill("relay_unserved", "Start a worker that reaches the site with --relay, or remove the relay on the camera's bench.",
				"No worker serves %s at %s: %s gets no picture by it.", r.Path, r.Site, r.For)
		case r.Problem != "":
			j.ill("relay_down", "See the camera in the line-up: its next step says what to do.",
				"The camera behind %s at %s does not play (%s): %s gets no picture by it.", r.Path, r.Site, r.Problem, r.For)
		default:
			well++
		}
	}
	if well > 0 {
		j.well("relays", "%s.", count(well, "stream is served on", "streams are served on"))
	}
}
