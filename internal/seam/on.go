//go:build seam

package seam

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
)

var steps atomic.Int64

// Step carries out one step, unless COZYSHELF_SEAM says otherwise of it: "fail:3"
// lets the third fail, "before:3" ends the program with SIGKILL before it,
// "after:3" after it. "count" writes to standard error how many there were so far.
func Step(do func() error) error {
	n := steps.Add(1)
	how, number, _ := strings.Cut(os.Getenv("COZYSHELF_SEAM"), ":")
	if how == "count" {
		fmt.Fprintf(os.Stderr, "\nseam %d\n", n)
	}
	if want, err := strconv.ParseInt(number, 10, 64); err != nil || want != n {
		return do()
	}
	switch how {
	case "fail":
		return errors.New("made to fail")
	case "before":
		end()
	case "after":
		if err := do(); err != nil {
			return err
		}
		end()
	}
	return do()
}

func end() {
	_ = syscall.Kill(os.Getpid(), syscall.SIGKILL) // nothing comes after it
	select {}
}
