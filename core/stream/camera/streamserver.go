package camera

// A Precedence is how a server judges a request, which decides what its answers mean.
type Precedence string

const (
	PathFirst   Precedence = "path first"    // an unknown path is a 404, signed in or not
	SignInFirst Precedence = "sign-in first" // without a sign-in every path is a 401
	AnyPath     Precedence = "any path"      // every path is answered with a picture: a 200 says nothing
)

// A StreamServer is what a stream service told of itself.
type StreamServer struct {
	Precedence Precedence `json:"manner"`
	Server     string     `json:"server,omitempty"`
	Realm      string     `json:"realm,omitempty"`
}

// A TriedPath is one path that was asked for, with the answer's status (RFC 2326 §7.1.1).
type TriedPath struct {
	Path   string `json:"path"`
	Recipe string `json:"recipe"`
	Status int    `json:"status"`
}
