package linkbudget_test

import (
	"context"
	"fmt"

	"unlatch/core/ground/linkbudget"
)

func ExampleBudget() {
	b := linkbudget.New(10_000)
	release, _ := b.Take(context.Background(), 6_000)
	_, fits := b.TryTake(6_000)
	fmt.Println("beside the first:", fits)
	release()
	_, fits = b.TryTake(6_000)
	fmt.Println("after it:", fits)
	// Output:
	// beside the first: false
	// after it: true
}
