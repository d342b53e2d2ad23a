package keypair

import (
	"encoding/binary"
	"encoding/json"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf16"
)

var (
	escape  = regexp.MustCompile(`\x1b\[[0-9;?]*[A-Za-z]`)
	fence   = regexp.MustCompile("^\\s*(```|~~~)[A-Za-z0-9_-]*\\s*$")
	percent = regexp.MustCompile(`^[A-Za-z0-9%._~+/=@:,"-]*%(20|0[AaDd])[A-Za-z0-9%._~+/=@:,"-]*$`)
)

// unpack takes a text out of what it was put into on its way: UTF-16 as some editors write it, a JSON string, percent
// encoding (RFC 3986), a code fence, quotes, the colours of a terminal, and what old programs put at the end of a
// file. A text that is in none of these is returned as it is.
func unpack(text string) (string, []Note) {
	var notes []Note
	apply := func(changed, what string) {
		if changed != text {
			text = changed
			notes = append(notes, Note{Text: what})
		}
	}
	apply(fromUTF16(text), "the text was UTF-16 and was read as UTF-8")
	apply(strings.TrimRight(text, "\x00\x1a"), "NUL or control-Z at the end was taken out")
	apply(escape.ReplaceAllString(text, ""), "colour codes of a terminal were taken out")
	apply(unfenced(text), "the code fence around it was taken out")
	whole := strings.TrimSpace(text)
	if len(whole) > 1 && whole[0] == '"' && whole[len(whole)-1] == '"' {
		var inner string
		if json.Unmarshal([]byte(whole), &inner) == nil && strings.Contains(whole, `\`) {
			apply(inner, "it was read out of a JSON string")
		} else {
			apply(whole[1:len(whole)-1], "the quotes around it were taken out")
		}
	}
	for _, quote := range []string{"'", "`"} {
		if len(whole) > 1 && strings.HasPrefix(whole, quote) && strings.HasSuffix(whole, quote) {
			apply(whole[1:len(whole)-1], "the quotes around it were taken out")
		}
	}
	if whole = strings.TrimSpace(text); percent.MatchString(whole) {
		if plain, err := url.PathUnescape(whole); err == nil {
			apply(plain, "the percent encoding was undone")
		}
	}
	return text, notes
}

// unfenced takes away the first and the last line where both are code fences.
func unfenced(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if len(lines) < 3 || !fence.MatchString(lines[0]) || !fence.MatchString(lines[len(lines)-1]) {
		return text
	}
	return strings.Join(lines[1:len(lines)-1], "\n") + "\n"
}

// fromUTF16 reads a text that begins with the byte order mark of UTF-16, or in which every other byte is zero.
func fromUTF16(text string) string {
	const seen = 16
	var order binary.ByteOrder
	switch {
	case len(text) < 4 || len(text)%2 != 0:
		return text
	case strings.HasPrefix(text, "\xff\xfe") || everyOtherZero(text, 1, seen):
		order = binary.LittleEndian
	case strings.HasPrefix(text, "\xfe\xff") || everyOtherZero(text, 0, seen):
		order = binary.BigEndian
	default:
		return text
	}
	units := make([]uint16, len(text)/2)
	for n := range units {
		units[n] = order.Uint16([]byte(text[2*n : 2*n+2]))
	}
	return strings.TrimPrefix(string(utf16.Decode(units)), "\ufeff")
}

// everyOtherZero reports whether every other of the first bytes is zero, from one on, and none of the others is.
func everyOtherZero(text string, from, seen int) bool {
	for n := 0; n < min(len(text), seen); n++ {
		if (text[n] == 0) != (n%2 == from) {
			return false
		}
	}
	return true
}
