package sshdconfig

import (
	"errors"
	"strings"
)

// The faults of a line quote nothing of it: what an Include brings may be any file, also one with a private key.
var (
	errQuotes  = errors.New("a quote that is not closed")
	errNoValue = errors.New("a keyword without a value")
)

// blanks are what parts words.
const blanks = " \t\r\n\f"

// keywordOf returns the first word of a line, which may be followed by one equals sign, and what
// comes after both.
func keywordOf(line string) (keyword, rest string) {
	line = strings.TrimLeft(strings.TrimRight(line, blanks), blanks)
	end := strings.IndexAny(line, blanks+"=\"")
	if end < 0 {
		return line, ""
	}
	keyword, rest = line[:end], line[end:]
	equals := strings.HasPrefix(rest, "=")
	rest = strings.TrimLeft(rest[min(1, len(rest)):], blanks)
	if line[end] == '"' { // a quote ends the keyword and begins the value
		rest = line[end:]
	}
	if !equals && strings.HasPrefix(rest, "=") {
		rest = strings.TrimLeft(rest[1:], blanks)
	}
	return keyword, rest
}

// words parts the arguments of a line as sshd does since OpenSSH 8.7: at blanks, with quotes of both
// kinds, a backslash before a quote, a backslash or a blank, and a comment where a word begins with #.
func words(rest string) (out []string, err error) {
	for n := 0; n < len(rest); n++ {
		if rest[n] == ' ' || rest[n] == '\t' {
			continue
		}
		if rest[n] == '#' {
			break
		}
		var word []byte
		quote := byte(0)
		for ; n < len(rest); n++ {
			c := rest[n]
			switch {
			case c == '\\' && n+1 < len(rest) && (strings.IndexByte(`'"\`, rest[n+1]) >= 0 || quote == 0 && rest[n+1] == ' '):
				n++
				word = append(word, rest[n])
				continue
			case quote == 0 && (c == ' ' || c == '\t'):
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
				continue
			case quote != 0 && c == quote:
				quote = 0
				continue
			default:
				word = append(word, c)
				continue
			}
			break
		}
		if quote != 0 {
			return nil, errQuotes
		}
		out = append(out, string(word))
	}
	return out, nil
}

// matchWords parts the conditions of a Match: words with blanks or one equals sign between, double
// quotes around those with blanks in them, and a comment where a word begins with #.
func matchWords(rest string) (out []string, err error) {
	for {
		rest = strings.TrimLeft(rest, blanks)
		if rest == "" || strings.HasPrefix(rest, "#") && len(out)%2 == 0 {
			return out, nil
		}
		if rest[0] == '"' {
			word, after, closed := strings.Cut(rest[1:], `"`)
			if !closed {
				return nil, errQuotes
			}
			out, rest = append(out, word), after
			continue
		}
		var word string
		word, rest = keywordOf(rest)
		out = append(out, word)
	}
}
