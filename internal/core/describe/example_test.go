package describe_test

import (
	"fmt"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
)

func ExampleScore() {
	want := describe.Wanted{Name: "The Paper Lighthouse", Year: 2014, Kind: household.Films}
	list := describe.Score(want, []describe.Candidate{
		{ID: "catalogue 1", Name: "The Paper Lighthouse", Year: 1931, Kind: household.Films},
		{ID: "catalogue 2", Name: "The Paper Lighthouse", Year: 2014, Kind: household.Films},
	})
	best, clear := describe.Take(list)
	fmt.Println(best.ID, clear, best.Reasons)
	// Output: catalogue 2 true [the same name the same year of this kind]
}
