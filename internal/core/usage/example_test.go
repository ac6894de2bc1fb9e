package usage_test

import (
	"fmt"
	"time"

	"cozyshelf/internal/core/usage"
)

// A film of an hour, left after 40 minutes, and then seen to its end.
func Example() {
	const film = 3600
	fmt.Println(usage.Finished(2400, film), usage.ResumeAt(2400, film))
	fmt.Println(usage.Finished(3500, film), usage.ResumeAt(3500, film))
	// Half a minute later the position is a quarter of an hour further on: that was a jump.
	fmt.Println(usage.Advance(2400, 3300, 30*time.Second))
	// Output:
	// false 2400
	// true 0
	// 30
}
