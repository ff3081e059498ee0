package convert

import (
	"sync"

	"unlatch/core/stream/conversion"
)

// A Machine is where streams are converted, within a budget. It is made by NewMachine.
type Machine struct {
	mu    sync.Mutex
	rates conversion.Rates
}

// NewMachine returns a machine with the rates that were measured on it; see Measure.
func NewMachine(r conversion.Rates) *Machine { return &Machine{rates: r} }

// Rates returns what converting costs here, and how much of the budget is taken.
func (m *Machine) Rates() conversion.Rates {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.rates
}

// enter takes what a conversion costs off the budget until leave is called.
func (m *Machine) enter(s conversion.Source, f conversion.Form) (leave func(), err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	cores, err := m.rates.Afford(s, f, m.rates.Used)
	if err != nil {
		return nil, err
	}
	m.rates.Used += cores
	return sync.OnceFunc(func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.rates.Used = max(0, m.rates.Used-cores)
	}), nil
}
