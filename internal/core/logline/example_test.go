package logline_test

import (
	"fmt"

	"cozyshelf/internal/core/logline"
)

func ExampleParse() {
	l := logline.Parse(`2026-05-17T20:15:00Z level=INFO msg="a stream began" member=wren title="Tiny Harbour"`)
	fmt.Println(l.Message)
	for _, p := range l.Pairs {
		fmt.Println(p.Key, p.Value)
	}
	// Output:
	// a stream began
	// member wren
	// title Tiny Harbour
}
