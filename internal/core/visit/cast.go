package visit

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// The kinds of events of asciicast v2.
const (
	Shown   = "o"
	Typed   = "i"
	Resized = "r"
)

// Header is the first line of a recording.
func Header(cols, rows int, at time.Time, title string) []byte {
	line, _ := json.Marshal(map[string]any{ // plain values alone
		"version": 2, "width": cols, "height": rows, "timestamp": at.Unix(), "title": title,
	})
	return append(line, '\n')
}

// Event is a line of a recording: what was typed or shown so long after its beginning.
func Event(after time.Duration, kind, data string) []byte {
	text, _ := json.Marshal(data)
	return fmt.Appendf(nil, "[%.6f, %q, %s]\n", after.Seconds(), kind, text)
}

// Size is the data of a Resized event.
func Size(cols, rows int) string { return fmt.Sprintf("%dx%d", cols, rows) }

// Text makes text of bytes that come in pieces, which may cut a rune in two. The zero value is ready.
type Text struct{ left []byte }

// Take returns the text of the bytes, but for the first ones of a rune whose others have yet to come. What is no UTF-8
// becomes U+FFFD.
func (t *Text) Take(b []byte) string {
	all := append(t.left, b...)
	cut := len(all)
	for n := 1; n < utf8.UTFMax && n <= len(all); n++ {
		if c := all[len(all)-n]; utf8.RuneStart(c) {
			if !utf8.FullRune(all[len(all)-n:]) {
				cut = len(all) - n
			}
			break
		}
	}
	t.left = append([]byte(nil), all[cut:]...)
	return strings.ToValidUTF8(string(all[:cut]), "\uFFFD")
}
