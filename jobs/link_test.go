package jobs

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"unlatch/store"
)

// Workers that share a site share what may flow on its link, also when one comes or goes while they work.
func TestWorkersShareALink(t *testing.T) {
	t.Parallel()
	var l links
	site := store.Site{ID: uuid.New(), LinkMbps: 6}
	most := func(workers int) int {
		site.Workers = workers
		l.of(site)
		_, _, most := l.load()
		return most
	}
	assert.Equal(t, 6000, most(0), "none is known yet")
	assert.Equal(t, 6000, most(1))
	assert.Equal(t, 2000, most(3))
	assert.Equal(t, 3000, most(2))
}
