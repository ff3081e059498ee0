package trouble_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/core/ground/trouble"
)

// told is an error that tells a cause and may wrap another.
type told struct {
	cause trouble.Cause
	inner error
}

func (e told) Error() string            { return string(e.cause) }
func (e told) Unwrap() error            { return e.inner }
func (e told) Trouble() trouble.Trouble { return trouble.Trouble{Cause: e.cause} }

func TestOf(t *testing.T) {
	for name, c := range map[string]struct {
		err  error
		want trouble.Cause
	}{
		"the error itself":                {told{trouble.Busy, nil}, trouble.Busy},
		"a wrapped one":                   {fmt.Errorf("playing: %w", told{trouble.Busy, nil}), trouble.Busy},
		"the outer one of two":            {told{trouble.SlotGone, told{trouble.Unfit, nil}}, trouble.SlotGone},
		"the first of two beside others":  {errors.Join(io.EOF, told{trouble.Busy, nil}, told{trouble.Unfit, nil}), trouble.Busy},
		"what was not sent goes before":   {told{trouble.WrongSignIn, told{trouble.HeldBack, nil}}, trouble.HeldBack},
		"the outer one that was not sent": {told{trouble.Readable, told{trouble.HeldBack, nil}}, trouble.Readable},
		"stopped, whatever else":          {errors.Join(told{trouble.Busy, nil}, context.Canceled), trouble.Stopped},
		"refused":                         {fmt.Errorf("dialing: %w", syscall.ECONNREFUSED), trouble.PortClosed},
		"no route":                        {syscall.EHOSTUNREACH, trouble.NoAnswer},
		"out of time":                     {context.DeadlineExceeded, trouble.NoAnswer},
		"ended":                           {io.ErrUnexpectedEOF, trouble.Dropped},
		"anything else":                   {errors.New("the moon is full"), trouble.Unknown},
	} {
		got, teller := trouble.Of(c.err)
		assert.Equal(t, c.want, got.Cause, name)
		assert.NotNil(t, teller, name)
	}
}

func ExampleOf() {
	err := fmt.Errorf("looking at the recorder: %w", told{trouble.Busy, syscall.ECONNRESET})
	t, teller := trouble.Of(err)
	fmt.Println(t.Cause, teller)
	// Output: busy busy
}
