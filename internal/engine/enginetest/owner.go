package enginetest

import (
	"io/fs"
	"syscall"
)

// owner gives the numbers of a file's owner and group.
func owner(st fs.FileInfo) (uid, gid uint32) {
	s := st.Sys().(*syscall.Stat_t)
	return s.Uid, s.Gid
}
