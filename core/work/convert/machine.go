package convert

import (
	"sync"

	"unlatch/core/stream/conversion"
)

// A Machine is where streams are converted, within a budget. Its zero value has none.
type Machine struct {
	mu    sync.Mutex
	rates conversion.Rates
}

// Set says what converting costs, as Measure has it, and the budget. What is taken of it stays so.
func (m *Machine) Set(r conversion.Rates) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r.Used = m.rates.Used
	m.rates = r
}

// Rates returns what converting costs here, and how much of the budget is taken.
func (m *Machine) Rates() conversion.Rates {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.rates
}

// enter takes what a conversion costs off the budget until leave is called.
func (m *Machine) enter(s conversion.Source, f conversion.Shape) (leave func(), err error) {
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
