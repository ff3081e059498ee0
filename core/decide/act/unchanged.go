package act

import (
	"fmt"
	"strings"

	"github.com/google/uuid"
)

// Fields are what of a thing can be changed, as text by field: what two people who change it at once are shown.
type Fields map[string]string

// Unchanged is kept before all else by an act whose person has said what they saw before they began to change it. Where the thing is
// neither that by now nor what the act makes of it, the act is refused with a *ChangedError, so that nobody's change is lost unseen.
type Unchanged struct {
	Device, Target uuid.UUID // what is changed: one of them, or the plan; the site where none is set
	Plan           *PlanName
	Was, Then      Fields
}

// Holds reports whether each field is still as it was seen, or already as it shall become.
func (u Unchanged) Holds(now Fields) bool {
	for _, side := range []Fields{u.Was, now} {
		for field := range side {
			if now[field] != u.Was[field] && now[field] != u.Then[field] {
				return false
			}
		}
	}
	return true
}

// Acts returns the acts that change what this is about.
func (u Unchanged) Acts() []Name {
	switch {
	case u.Device != uuid.Nil:
		return []Name{"rename-device", "use-listed-names", "name-devices"}
	case u.Target != uuid.Nil:
		return []Name{"set-target", "set-target-intake"}
	case u.Plan != nil:
		return []Name{"put-plan", "delete-plan"}
	}
	return []Name{"change-site"}
}

// Fields returns what of a site can be changed.
func (s SiteForm) Fields() Fields {
	out := Fields{"name": s.Name, "ranges": s.Ranges.String()}
	if s.Customer != "" {
		out["customer"] = s.Customer
	}
	if s.LinkMbps > 0 {
		out["link"] = fmt.Sprintf("%d Mbit/s", s.LinkMbps)
	}
	return out
}

// Fields returns what of a target can be changed, but its sign-in, which has no text that may be shown.
func (t TargetForm) Fields() Fields {
	out := Fields{"name": strings.TrimSpace(t.Name)}
	for field, text := range map[string]string{"address": t.Address, "accepts": t.Intake} {
		if text != "" {
			out[field] = text
		}
	}
	for key, text := range t.Settings {
		if text != "" {
			out[key] = text
		}
	}
	return out
}
