package atomicfile_test

import (
	"errors"
	"fmt"
	"io/fs"
	"log"
	"os"
	"path/filepath"

	"cozyshelf/internal/atomicfile"
)

func Example() {
	dir, err := os.MkdirTemp("", "cozyshelf-example-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "household.toml")
	fmt.Println(atomicfile.Create(path, []byte("format = 1\n"), 0o600, nil))
	fmt.Println(errors.Is(atomicfile.Create(path, nil, 0o600, nil), fs.ErrExist))
	fmt.Println(atomicfile.Replace(path, []byte("format = 1 # of this file\n"), 0o600, nil))
	text, err := os.ReadFile(path)
	fmt.Print(string(text), err)
	// Output:
	// <nil>
	// true
	// <nil>
	// format = 1 # of this file
	// <nil>
}
