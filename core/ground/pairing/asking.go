package pairing

// Paths at the server. A machine asks to be paired by a POST to AskPath and looks by a GET how that stands; LinkPath takes the connections
// of workers that are paired.
const (
	AskPath  = "/api/workers/pairings"
	LinkPath = "/api/workers/link"
)

// An Ask is what a machine says when it asks to be paired.
type Ask struct {
	Key Public `json:"key"`
	// Recipient is what data keys are wrapped for, see Identity.
	Recipient string `json:"recipient"`
	Machine   string `json:"machine"`
	Version   string `json:"version"`
}

// An Asked is the server's answer to that.
type Asked struct {
	// Token is what the machine looks by how its request stands; Code is what a person is to type.
	Token string `json:"token,omitempty"`
	Code  string `json:"code,omitempty"`
	// Seconds is for how long the code is good.
	Seconds int `json:"seconds,omitempty"`
	// Worker is the ID that the machine has as a worker; "" while nobody has confirmed it.
	Worker string `json:"worker,omitempty"`
	Name   string `json:"name,omitempty"`
}
