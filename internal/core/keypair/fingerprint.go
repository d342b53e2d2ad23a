package keypair

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"regexp"
	"strings"
)

// Digest is a fingerprint read from a text: which digest it can be, by its
// length or its prefix.
type Digest struct {
	// Kind is "sha256", "md5" or "sha1".
	Kind string
	Sum  []byte
}

var (
	sshfpRecord = regexp.MustCompile(`(?i)^(?:\S+\s+(?:\d+\s+)?(?:IN\s+)?SSHFP\s+)?([1-6])\s+([12])\s+([0-9a-f\s]+)$`)
	hexOnly     = regexp.MustCompile(`(?i)^[0-9a-f]+$`)
	digestSizes = map[int]string{32: "sha256", 16: "md5", 20: "sha1"}
)

// ReadFingerprint reads a fingerprint in any of its spellings: with or without
// the prefix SHA256:, MD5: or SHA1:, in base64 with or without padding, in
// hexadecimal of any case with or without colons, or as an SSHFP record. ok is
// false where the text is none of these.
func ReadFingerprint(text string) (d Digest, ok bool) {
	text = strings.Trim(strings.TrimSpace(text), `"'`)
	if m := sshfpRecord.FindStringSubmatch(text); m != nil {
		return digestOfHex(strings.Join(strings.Fields(m[3]), ""))
	}
	// The line of ssh-keygen -l: bits, fingerprint, comment, type.
	if fields := strings.Fields(text); len(fields) > 1 {
		for _, f := range fields[:2] {
			if _, _, prefixed := cutPrefix(f); prefixed {
				text = f
			}
		}
	}
	rest, kind, _ := cutPrefix(text)
	if compact := strings.NewReplacer(":", "", "-", "", " ", "").Replace(rest); hexOnly.MatchString(compact) {
		if d, ok = digestOfHex(compact); ok && (kind == "" || kind == d.Kind) {
			return d, true
		}
	}
	plain := strings.NewReplacer("-", "+", "_", "/").Replace(strings.TrimRight(rest, "="))
	sum, err := base64.RawStdEncoding.DecodeString(plain)
	if err != nil {
		return Digest{}, false
	}
	found := digestSizes[len(sum)]
	if found == "" || kind != "" && kind != found {
		return Digest{}, false
	}
	return Digest{found, sum}, true
}

func cutPrefix(text string) (rest, kind string, ok bool) {
	before, after, found := strings.Cut(text, ":")
	kind = strings.ReplaceAll(strings.ToLower(before), "-", "")
	if found && (kind == "sha256" || kind == "md5" || kind == "sha1") {
		return after, kind, true
	}
	return text, "", false
}

func digestOfHex(text string) (Digest, bool) {
	sum, err := hex.DecodeString(text)
	if err != nil || digestSizes[len(sum)] == "" {
		return Digest{}, false
	}
	return Digest{digestSizes[len(sum)], sum}, true
}

// HasDigest reports whether d is one of the key's fingerprints: SHA-256 or MD5
// of the wire form, or MD5 of the SPKI DER.
func (p Public) HasDigest(d Digest) bool {
	return bytes.Equal(d.Sum, p.SHA256()) || bytes.Equal(d.Sum, p.MD5()) ||
		len(d.Sum) > 0 && bytes.Equal(d.Sum, p.SPKIMD5())
}

// FormatHex writes a digest as colon-separated hexadecimal.
func FormatHex(digest []byte) string { return strings.TrimPrefix(FormatMD5(digest), "MD5:") }
