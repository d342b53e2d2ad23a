package charter

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Namespace is the one that charters are signed in, with SSHSIG (OpenSSH's PROTOCOL.sshsig).
const Namespace = "charter@plumlatch"

// ToSign is the text that a person signs who wants the files with that digest settled in the place of a version of the
// charter, 0 for none. A signature is worth nothing for other files, and nothing once another version counts.
func ToSign(name string, after int, digest []byte) string {
	return fmt.Sprintf(
		"I want this charter settled.\ncharter: %s\nafter version: %d\nsha256 of its files: %s\n", name, after,
		hex.EncodeToString(digest),
	)
}

// Digest is the SHA-256 of files: of the path and the content of each, in the order of their paths, with the length of
// each before it as 8 bytes in network order.
func Digest(files []File) []byte {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	h := sha256.New()
	for _, f := range files {
		for _, part := range [][]byte{[]byte(f.Path), f.Content} {
			h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(part))))
			h.Write(part)
		}
	}
	return h.Sum(nil)
}
