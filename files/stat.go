package files

import (
	"io/fs"
	"syscall"
)

func statOf(st fs.FileInfo) *syscall.Stat_t {
	sys, _ := st.Sys().(*syscall.Stat_t)
	return sys
}
