//go:build crashpoint

package crashpoint

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

var steps atomic.Int64

// Step carries out one step, unless COZYSHELF_CRASHPOINT says otherwise of it: "fail:3"
// lets the third fail, "before:3" ends the program with SIGKILL before it,
// "after:3" after it. "count" writes to standard error how many there were so far.
// "within:3:7ms" ends it so long after the third step has begun. "hook:PROGRAM" runs a
// program before and after each step, with the step's number and which of the two it is.
func Step(do func() error) error {
	n := steps.Add(1)
	how, number, _ := strings.Cut(os.Getenv("COZYSHELF_CRASHPOINT"), ":")
	if how == "count" {
		fmt.Fprintf(os.Stderr, "\ncrash point %d\n", n)
	}
	if how == "hook" {
		hook := func(when string) {
			_ = exec.Command(number, strconv.FormatInt(n, 10),
				when).Run()
		} // it does what it can
		hook("before")
		defer hook("after")
		return do()
	}
	number, wait, _ := strings.Cut(number, ":")
	if want, err := strconv.ParseInt(number, 10, 64); err != nil || want != n {
		return do()
	}
	switch how {
	case "fail":
		return errors.New("made to fail")
	case "before":
		end()
	case "within":
		d, err := time.ParseDuration(wait)
		if err != nil {
			return err
		}
		time.AfterFunc(d, end)
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
