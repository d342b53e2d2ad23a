//go:build !unix

package kit

import "io/fs"

// otherOwner tells nothing where files have no owner as Unix knows it.
func otherOwner(fs.FileInfo) string { return "" }
