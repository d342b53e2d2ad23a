package authorizedkeys

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"regexp"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
)

// MaxKept is how much of a file is kept in records, in bytes.
const MaxKept = 256 << 10

// Exposed is a stretch of a file that looks like a private key. What it says is kept
// nowhere: whoever could read the file could read it.
type Exposed struct {
	// Line is the first of its lines, from 1; Lines is how many there are.
	Line  int `json:"line"`
	Lines int `json:"lines"`
	// SHA256 is of the stretch as it stood there, in hexadecimal, so that it can be
	// recognised and not recovered.
	SHA256 string `json:"sha256"`
	// Public is the SHA-256 fingerprint of the public key, "" where the stretch does not
	// tell it.
	Public string `json:"public,omitempty"`
}

// longBase64 is what a line of a private key's body looks like where its marks are lost.
var longBase64 = regexp.MustCompile(`[A-Za-z0-9+/]{24}`)

// Keep returns the file as it may be kept and shown, and what was left out since it looks
// like a private key: each such stretch becomes one comment line that says so. A file
// longer than MaxKept is cut after a whole line, which a last comment line says.
//
// A line that is a key stays, without its comment where that shows the marks of a private
// key. One that is none of the format's and holds a long run of base64 is taken for a part
// of a private key, marked or not.
func (f File) Keep() (kept []byte, exposed []Exposed) {
	whole := f.Bytes()
	marked := keypair.HoldsPrivate(string(whole))
	var b bytes.Buffer
	for n := 0; n < len(f); n++ {
		l := f[n]
		if cutsComment(l) {
			// The file had no last line end, and somebody put a private key behind it.
			exposed = append(exposed, expose(File{l}))
			b.WriteString(l.bare() + " (the rest of this line looks like a private key and is not kept)\n")
			continue
		}
		end := n
		for end < len(f) && suspicious(f[end], marked) {
			end++
		}
		if end == n {
			b.WriteString(l.Raw)
			continue
		}
		e := expose(f[n:end])
		exposed = append(exposed, e)
		fmt.Fprintf(&b, "# %d lines that look like a private key are not kept, SHA-256 %s\n", e.Lines, e.SHA256)
		n = end - 1
	}
	return cutKept(b.Bytes()), exposed
}

func suspicious(l Line, marked bool) bool {
	switch l.Kind {
	case Key, Blank:
		return false
	case Comment:
		return keypair.HoldsPrivate(l.Raw) || marked && longBase64.MatchString(l.Raw)
	}
	if keypair.HoldsPrivate(l.Raw) || longBase64.MatchString(l.Raw) && !namesType(l.Raw) {
		return true
	}
	return marked // headers of the format, such as Proc-Type, and the end of the block
}

// namesType reports whether the line is a public key that cannot be read, which holds no secret.
func namesType(raw string) bool {
	for word := range strings.FieldsSeq(raw) {
		if keypair.KnownAlgorithm(word) || strings.HasPrefix(word, "ssh-") || strings.HasPrefix(word, "ecdsa-") ||
			strings.HasPrefix(word, "sk-") {
			return true
		}
	}
	return false
}

func cutsComment(l Line) bool {
	if l.Kind != Key {
		return false
	}
	rest := l.Comment
	for _, o := range l.Options {
		rest += "\n" + o.Value
	}
	return keypair.HoldsPrivate(rest)
}

// bare is the key of the line without its options and its comment.
func (l Line) bare() string { return keypair.Public{Algorithm: l.Algorithm, Blob: l.Blob}.Line() }

func expose(f File) Exposed {
	raw := f.Bytes()
	sum := sha256.Sum256(raw)
	e := Exposed{Line: f[0].Number, Lines: len(f), SHA256: fmt.Sprintf("%x", sum[:])}
	if from := bytes.Index(raw, []byte("-----BEGIN")); from > 0 {
		raw = raw[from:]
	}
	if len(raw) <= keypair.MaxTextBytes {
		// The error is that it is encrypted, or that it is none: what is told all the same counts.
		if file, _ := keypair.ReadPrivate(raw, nil); len(file.Public.Blob) > 0 {
			e.Public = keypair.FormatSHA256(file.Public.SHA256())
		}
	}
	return e
}

func cutKept(kept []byte) []byte {
	if len(kept) <= MaxKept {
		return kept
	}
	end := bytes.LastIndexByte(kept[:MaxKept], '\n') + 1
	return append(kept[:end:end], fmt.Sprintf("# %d more bytes are not kept\n", len(kept)-end)...)
}

// Told is how the line is told of in records that stay for ever: on one line of at most
// text.MaxLine bytes. Of one that is none of the format's only the length and the digest
// are told, as it may be a part of something secret.
func (l Line) Told() string {
	raw := strings.TrimRight(l.Raw, "\r\n")
	if l.Kind == Unreadable || l.Kind == Comment && keypair.HoldsPrivate(raw) {
		return fmt.Sprintf("(a line of %d bytes that is no key, SHA-256 %x)", len(raw), sha256.Sum256([]byte(raw)))
	}
	if cutsComment(l) {
		return l.bare() + " (the rest looks like a private key)"
	}
	return text.Line(raw, text.MaxLine)
}
