package tries_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/core/ground/tries"
)

func ExampleCounter() {
	var c tries.Counter
	for range tries.Free {
		c.Wrong("192.0.2.9")
	}
	fmt.Println(c.Shut("192.0.2.9"), c.Shut("192.0.2.10"))
	// Output: true false
}

func TestAnAddressIsLetInAgain(t *testing.T) {
	t.Parallel()
	now := time.Unix(1_700_000_000, 0)
	c := tries.Counter{Now: func() time.Time { return now }}
	for range tries.Free - 1 {
		c.Wrong("a")
	}
	assert.False(t, c.Shut("a"))
	c.Wrong("a")
	assert.True(t, c.Shut("a"))
	now = now.Add(time.Minute)
	assert.False(t, c.Shut("a"))
	c.Wrong("a")
	assert.False(t, c.Shut("a"), "it counts anew")
	for i := range 20_000 {
		c.Wrong(fmt.Sprint(i))
	}
	assert.False(t, c.Shut("a"), "what is remembered is bounded")
}
