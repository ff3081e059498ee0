package evidence

import (
	"unlatch/core/decide/diagnose"
)

// Left is a device's own word that it leaves the network. A Bye carries only the endpoint reference (WS-Discovery §4.2), so Left has no
// fields: the record's time is the fact.
type Left struct{}

func (Left) kind() Kind { return KindLeft }

func (Left) failure() *diagnose.Diagnosis { return nil }

func (Left) sum(_ string) string {
	return "It said goodbye: it is being switched off, restarted or given another address"
}
