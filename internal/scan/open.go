package scan

import "golang.org/x/sys/unix"

const nonblock = unix.O_NONBLOCK
