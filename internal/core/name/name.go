// Package name judges the names that people give to key pairs and instances.
//
// A name is 1 to 64 characters of a-z, 0-9, dot, underscore and hyphen, and
// begins and ends with a letter or digit, so that it can stand unquoted in a shell,
// a file name, a URL path and an ssh_config Host line.
package name

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// MaxLength is the greatest number of characters in a name.
const MaxLength = 64

// Error says what is wrong with a name and offers one that would do.
type Error struct {
	// Column is the 1-based position of the first character at fault, counted
	// in characters; 0 where the fault is not at one place.
	Column int
	// Problem says what is wrong, in words that follow the field's label.
	Problem string
	// Suggestion is a corrected name, or "" if nothing usable is left.
	Suggestion string
}

func (e *Error) Error() string {
	if e.Suggestion == "" {
		return e.Problem
	}
	return fmt.Sprintf("%s; try %q", e.Problem, e.Suggestion)
}

// Check returns nil for a good name and an *Error for any other.
func Check(s string) error {
	if s == "" {
		return &Error{Problem: "the name is empty: give 1 to 64 of a-z 0-9 . _ -"}
	}
	column := 0
	for i, r := range s {
		column++
		if allowed(r) {
			continue
		}
		bad := fmt.Sprintf("%q", r)
		if r == utf8.RuneError {
			bad = fmt.Sprintf("the byte 0x%02x", s[i])
		}
		return &Error{
			Column:     column,
			Problem:    fmt.Sprintf("character %d, %s, is not allowed in a name (a-z 0-9 . _ -)", column, bad),
			Suggestion: Suggest(s),
		}
	}
	if column > MaxLength {
		return &Error{
			Column:     MaxLength + 1,
			Problem:    fmt.Sprintf("the name has %d characters; %d is the limit", column, MaxLength),
			Suggestion: Suggest(s),
		}
	}
	if !alphanumeric(rune(s[0])) {
		return &Error{Column: 1, Problem: fmt.Sprintf("a name cannot begin with %q", s[0]), Suggestion: Suggest(s)}
	}
	if !alphanumeric(rune(s[len(s)-1])) {
		return &Error{Column: column, Problem: fmt.Sprintf("a name cannot end with %q", s[len(s)-1]), Suggestion: Suggest(s)}
	}
	return nil
}

// Suggest returns the nearest good name to s, or "" if nothing usable is left:
// lower case, with each run of other characters turned into one hyphen.
func Suggest(s string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(s) {
		if !allowed(r) {
			gap = true
			continue
		}
		if gap && b.Len() > 0 {
			b.WriteByte('-')
		}
		gap = false
		b.WriteRune(r)
	}
	out := strings.TrimLeft(b.String(), "._-")
	if len(out) > MaxLength {
		out = out[:MaxLength]
	}
	return strings.TrimRight(out, "._-")
}

func allowed(r rune) bool { return alphanumeric(r) || r == '.' || r == '_' || r == '-' }

func alphanumeric(r rune) bool { return r >= 'a' && r <= 'z' || r >= '0' && r <= '9' }
