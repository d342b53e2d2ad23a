//go:build unix

package kit

import (
	"io/fs"
	"os"
	"os/user"
	"strconv"
	"syscall"
)

// OtherOwner returns whose the file is where it belongs to somebody else, "" where
// it is one's own. It is everybody's own to root.
func OtherOwner(info fs.FileInfo) string {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || os.Geteuid() == 0 || int(st.Uid) == os.Geteuid() {
		return ""
	}
	uid := strconv.Itoa(int(st.Uid))
	if u, err := user.LookupId(uid); err == nil {
		return u.Username
	}
	return "user " + uid
}
