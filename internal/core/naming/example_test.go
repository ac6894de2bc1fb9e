package naming_test

import (
	"fmt"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/naming"
)

func ExampleRead() {
	r := naming.Read(household.Series, "Tiny.Harbour.S02E03.720p/tiny.harbour.s02e03.mkv")
	fmt.Println(r.Title, r.Season, r.Episode)
	fmt.Println(naming.Canonical(household.Series, r, ".mkv"))
	// Output:
	// Tiny Harbour 2 3
	// Tiny Harbour/Season 02/Tiny Harbour S02E03.mkv
}
