//go:build unix

package reporter

import (
	"io/fs"
	"syscall"
)

// ownerOf is the number of the account that owns a file.
func ownerOf(info fs.FileInfo) (uint32, bool) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return s.Uid, true
}
