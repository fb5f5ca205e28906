package library

import "syscall"

// freeBytes is what a file system has left, -1 when nobody knows.
func freeBytes(folder string) int64 {
	var st syscall.Statfs_t
	if syscall.Statfs(folder, &st) != nil {
		return -1
	}
	return int64(st.Bavail) * st.Bsize
}
