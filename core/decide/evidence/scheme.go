package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
)

// Scheme is the strongest scheme in which a service of the device has taken a sign-in; a weaker one is refused from then on.
type Scheme struct {
	Scheme string `json:"scheme"`
	Before string `json:"before,omitempty" doc:"of a weaker one that a person has agreed to: what it was"`
}

func (Scheme) kind() Kind { return KindScheme }

func (Scheme) failure() *diagnose.Diagnosis { return nil }

func (b Scheme) sum(_ string) string {
	if b.Before != "" {
		return fmt.Sprintf("Agreed: the sign-in may go out as %s, before %s", b.Scheme, b.Before)
	}
	return fmt.Sprintf("It takes the sign-in as %s; nothing weaker is sent from now on", b.Scheme)
}
