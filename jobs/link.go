package jobs

import (
	"sync"

	"github.com/google/uuid"

	"unlatch/core/ground/linkbudget"
	"unlatch/store"
)

// links are the link budgets of the sites that this process works on.
type links struct {
	mu   sync.Mutex
	have map[uuid.UUID]*linkbudget.Budget
}

// of returns this process's part of the budget of a site, which is what a person has set, or what the interface that leads there carries.
// Workers that share a site have equal parts.
func (l *links) of(site store.Site) *linkbudget.Budget {
	kbps := site.LinkMbps * 1000
	if kbps == 0 {
		kbps = linkbudget.Of(linkbudget.Carries(site.Ranges))
	}
	kbps /= max(site.Workers, 1)
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.have[site.ID]
	if b == nil {
		if l.have == nil {
			l.have = map[uuid.UUID]*linkbudget.Budget{}
		}
		b = linkbudget.New(kbps)
		l.have[site.ID] = b
	}
	b.Set(kbps)
	return b
}

// load returns what flows on all links together, and what may flow, in kbit/s.
func (l *links) load() (measured, looked, most int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, b := range l.have {
		m, k, all := b.Load()
		measured, looked, most = measured+m, looked+k, most+all
	}
	return measured, looked, most
}
