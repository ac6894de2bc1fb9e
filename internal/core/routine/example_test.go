package routine_test

import (
	"fmt"
	"time"

	"cozyshelf/internal/core/routine"
)

func ExampleNext() {
	last := time.Date(2026, 5, 17, 3, 30, 0, 0, time.UTC)
	now := last.Add(time.Hour)
	fmt.Println(routine.Next(last, now, "day", "03:30", time.UTC).Format(time.DateTime))
	fmt.Println(routine.Next(last, now, "12h", "", time.UTC).Format(time.DateTime))
	fmt.Println(routine.Next(last, now, "never", "", time.UTC).IsZero())
	// Output:
	// 2026-05-18 03:30:00
	// 2026-05-17 15:30:00
	// true
}
