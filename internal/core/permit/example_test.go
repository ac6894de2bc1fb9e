package permit_test

import (
	"fmt"

	"cozyshelf/internal/core/permit"
)

// A file of root's that its group may read: the server's account is in that group, a guest is not.
func ExampleDecide() {
	file := permit.Attrs{UID: 0, GID: 2001, Mode: 0o640}
	for _, who := range []permit.Identity{{UID: 1500, Groups: []uint32{1500, 2001}}, {UID: 1600}} {
		d := permit.Decide(who, file, permit.Read)
		fmt.Println(d.Granted, d.Class)
	}
	// Output:
	// true owning group
	// false other
}
