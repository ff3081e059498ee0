package netconfig

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that something else has the address already.
func (e *OccupiedError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.AddressTaken, Facts: trouble.Facts{"addr": e.Addr, "port": e.Port}}
}

// Trouble says that another device answers at the new address.
func (e *ImpostorError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.AddressTaken, Form: "by another", Facts: trouble.Facts{"addr": e.Addr}}
}

// Trouble says that the device kept its old address.
func (e *StayedError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.AddressRefused, Facts: trouble.Facts{"new": e.New, "old": e.Old}}
}

// Trouble says that the device did not come back.
func (e *LostError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.DeviceLost, Facts: trouble.Facts{"wait": e.Wait}}
}
