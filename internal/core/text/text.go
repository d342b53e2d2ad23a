// Package text makes what a machine, a person or another program wrote fit to be
// recorded and shown: one line, of bounded length, without the control characters by
// which a terminal is steered and without those that turn the order of writing
// (ECMA-48, Unicode UAX #9). It judges no meaning.
package text

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxLine is the longest line that is recorded of what somebody else wrote, in bytes.
const MaxLine = 300

// MaxMessage is the longest message about what went wrong that is recorded, in bytes.
const MaxMessage = 1000

// Plain replaces every control character, every character that changes the direction of
// writing and every byte that is no UTF-8 with a question mark. A text without such
// characters is returned as it is.
func Plain(s string) string {
	return strings.Map(func(r rune) rune {
		if odd(r) {
			return '?'
		}
		return r
	}, s)
}

// PlainLines is Plain for a text of several lines: line feeds and tabs stay.
func PlainLines(s string) string {
	return strings.Map(func(r rune) rune {
		if odd(r) && r != '\n' && r != '\t' {
			return '?'
		}
		return r
	}, s)
}

func odd(r rune) bool {
	return unicode.IsControl(r) || r == utf8.RuneError || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' ||
		r == '\u2029'
}

// Line is Plain with each run of blanks, tabs and line ends as one blank, cut to at most
// limit bytes between characters. A text that was cut ends in "…" within the limit.
func Line(s string, limit int) string {
	if len(s) > 4*limit { // what follows is cut in any case
		s = s[:4*limit] + "…"
	}
	return Cut(Plain(strings.Join(strings.Fields(s), " ")), limit)
}

const ellipsis = "…"

// Cut returns s, or its beginning with "…" where it has more than limit bytes.
func Cut(s string, limit int) string {
	if len(s) <= limit {
		return s
	}
	end := max(0, limit-len(ellipsis))
	for end > 0 && !utf8.RuneStart(s[end]) {
		end--
	}
	return s[:end] + ellipsis
}
