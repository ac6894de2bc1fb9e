package media_test

import (
	"fmt"

	"cozyshelf/internal/core/media"
)

func ExampleWebVTT() {
	text, err := media.WebVTT([]byte("1\r\n00:00:01,000 --> 00:00:02,500\r\nThe ferry is late.\r\n"), "en")
	fmt.Println(string(text), err)
	// Output:
	// WEBVTT
	//
	// 00:00:01.000 --> 00:00:02.500
	// The ferry is late.
	//  <nil>
}
