package layout_test

import (
	"fmt"

	"cozyshelf/internal/core/layout"
)

func ExampleFind() {
	p, ok := layout.Find(layout.State, layout.Store)
	fmt.Println(ok, p.Owner, p.Saved)
	_, ok = layout.Find(layout.State, "something else")
	fmt.Println(ok)
	// Output:
	// true server true
	// false
}
