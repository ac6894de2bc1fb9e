package problem_test

import (
	"errors"
	"fmt"
	"io/fs"

	"cozyshelf/internal/problem"
)

func ExampleOf() {
	err := fmt.Errorf("deploying: %w", &problem.Problem{What: "the folder does not exist", Where: "/srv/media/films",
		Why: "a shelf needs its folder", Fix: "make it, or mount its disk", Err: fs.ErrNotExist})
	p := problem.Of(err)
	fmt.Printf("%s: %s\n→ %s\n", p.What, p.Where, p.Fix)
	fmt.Println(errors.Is(err, fs.ErrNotExist), problem.Code(err))
	// Output:
	// the folder does not exist: /srv/media/films
	// → make it, or mount its disk
	// true 1
}
