// Package authorizedkeys reads and edits the file that says which keys open a
// login, without changing a byte of what it is not asked to change. The format is
// that of sshd(8) under AUTHORIZED_KEYS FILE FORMAT.
//
// Nothing is refused: a line that cannot be read is kept as it is, and sshd would
// pass over it too. There is no clock and no I/O here.
package authorizedkeys

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"plumlatch/internal/core/keypair"
)

// Kind is what a line is.
type Kind string

// The kinds of line.
const (
	Blank      Kind = "blank"
	Comment    Kind = "comment"
	Key        Kind = "key"
	Unreadable Kind = "unreadable"
)

// Line is one line of a file.
type Line struct {
	// Raw is the line byte for byte, with its line end.
	Raw string
	// Number is its place in the file, from 1.
	Number int
	Kind   Kind
	// Options are those before the key, in order.
	Options []Option
	// Algorithm and Blob are the key, also of a type that is not known here.
	Algorithm string
	Blob      []byte
	Comment   string
	// Why says why the line is Unreadable.
	Why string
}

// Option is one option before a key, such as no-pty or from="10.0.0.0/8".
type Option struct {
	// Name is in lower case.
	Name string
	// Value is without its quotes; "" also where there is none.
	Value string
}

// File is the lines of a file. Joined, their Raw is the file again.
type File []Line

// Parse reads a file.
func Parse(data []byte) File {
	var f File
	for len(data) > 0 {
		end := bytes.IndexByte(data, '\n') + 1
		if end == 0 {
			end = len(data)
		}
		f = append(f, parseLine(string(data[:end]), len(f)+1))
		data = data[end:]
	}
	return f
}

// Bytes returns the file as it is written.
func (f File) Bytes() []byte {
	var b bytes.Buffer
	for _, l := range f {
		b.WriteString(l.Raw)
	}
	return b.Bytes()
}

func parseLine(raw string, number int) Line {
	l := Line{Raw: raw, Number: number}
	text := strings.Trim(strings.TrimRight(raw, "\r\n"), " \t")
	switch {
	case text == "":
		l.Kind = Blank
		return l
	case strings.HasPrefix(text, "#"):
		l.Kind = Comment
		return l
	}
	l.Kind = Unreadable
	if !utf8.ValidString(text) {
		l.Why = "it is not valid UTF-8"
		return l
	}
	if l.readKey(text) == nil {
		return l
	}
	options, rest, err := cutOptions(text)
	if err == nil {
		err = l.readKey(rest)
	}
	if err != nil {
		l.Why = err.Error()
		return l
	}
	l.Options = options
	return l
}

// readKey reads a type, base64 and perhaps a comment. The type must be the one
// in the key data, known here or not.
func (l *Line) readKey(text string) error {
	typ, rest, _ := strings.Cut(strings.ReplaceAll(text, "\t", " "), " ")
	rest = strings.TrimLeft(rest, " ")
	data, comment, _ := strings.Cut(rest, " ")
	blob, err := base64.StdEncoding.DecodeString(data)
	if err != nil || len(blob) < 4 {
		return fmt.Errorf("there is no key after %q", shorten(typ))
	}
	if n := binary.BigEndian.Uint32(blob); uint64(n) > uint64(len(blob)-4) || string(blob[4:4+n]) != typ {
		return fmt.Errorf("the key data is not of the type %q", shorten(typ))
	}
	if _, err := keypair.ReadBlob(blob); err != nil && keypair.KnownAlgorithm(typ) {
		return fmt.Errorf("the key data is damaged: %w", err)
	}
	l.Kind, l.Algorithm, l.Blob, l.Comment, l.Why = Key, typ, blob, strings.Trim(comment, " "), ""
	return nil
}

func shorten(s string) string { return strings.ToValidUTF8(s[:min(len(s), 40)], "?") }

// cutOptions reads the options before a key: names with or without a value in
// double quotes, between commas; a quote within a value is written \".
func cutOptions(text string) (options []Option, rest string, err error) {
	for at := 0; ; {
		start := at
		for at < len(text) && text[at] != ',' && text[at] != ' ' && text[at] != '\t' && text[at] != '=' {
			if text[at] == '"' {
				return nil, "", fmt.Errorf("a quote in the name of an option, at character %d", at+1)
			}
			at++
		}
		o := Option{Name: strings.ToLower(text[start:at])}
		if o.Name == "" {
			return nil, "", fmt.Errorf("an option without a name, at character %d", at+1)
		}
		if at < len(text) && text[at] == '=' {
			if at++; at >= len(text) || text[at] != '"' {
				return nil, "", fmt.Errorf("the value of the option %s is not in quotes", shorten(o.Name))
			}
			var value strings.Builder
			for at++; at < len(text) && text[at] != '"'; at++ {
				if text[at] == '\\' && at+1 < len(text) && text[at+1] == '"' {
					at++
				}
				value.WriteByte(text[at])
			}
			if at >= len(text) {
				return nil, "", fmt.Errorf("the value of the option %s has no closing quote", shorten(o.Name))
			}
			at++
			o.Value = value.String()
		}
		options = append(options, o)
		switch {
		case at < len(text) && text[at] == ',':
			at++
		case at < len(text) && (text[at] == ' ' || text[at] == '\t'):
			return options, strings.TrimLeft(text[at:], " \t"), nil
		default:
			return nil, "", fmt.Errorf("there is no key after the options")
		}
	}
}

// Option returns the value of the first option of the name.
func (l Line) Option(name string) (value string, ok bool) {
	for _, o := range l.Options {
		if o.Name == name {
			return o.Value, true
		}
	}
	return "", false
}

// Expiry returns when the line stops opening the login, from its expiry-time
// option: YYYYMMDD or YYYYMMDDHHMM[SS], in UTC with a Z and in the zone of the
// server otherwise, which local gives. ok is false without the option; an option
// that cannot be read has expired at once, as sshd refuses such a line.
func (l Line) Expiry(local *time.Location) (at time.Time, ok bool) {
	value, ok := l.Option("expiry-time")
	if !ok {
		return time.Time{}, false
	}
	zone := local
	if digits, utc := strings.CutSuffix(value, "Z"); utc {
		value, zone = digits, time.UTC
	}
	layout := map[int]string{8: "20060102", 12: "200601021504", 14: "20060102150405"}[len(value)]
	at, err := time.ParseInLocation(layout, value, zone)
	if err != nil || layout == "" {
		return time.Time{}, true
	}
	return at, true
}

// ExpiryTime is the value of an expiry-time option for a time, to the second and in UTC, which OpenSSH
// understands since 9.1.
func ExpiryTime(at time.Time) string { return at.UTC().Format("20060102150405") + "Z" }

// WithExpiry returns the line with the end in its expiry-time option, and without that option for the zero
// time. Nothing else of it changes. It is for lines that hold a key.
func (l Line) WithExpiry(end time.Time) Line {
	lead, rest := l.bareText()
	kept := slices.DeleteFunc(l.optionTexts(), endsLine)
	if !end.IsZero() {
		kept = append([]string{`expiry-time="` + ExpiryTime(end) + `"`}, kept...)
	}
	return parseLine(lead+before(kept, rest), l.Number)
}

// endsLine reports whether the text of an option is that of an expiry-time.
func endsLine(option string) bool {
	name, _, _ := strings.Cut(option, "=")
	return strings.EqualFold(name, "expiry-time")
}

// bareText returns the spaces before the line's options, and its text after them.
func (l Line) bareText() (lead, rest string) {
	lead = l.Raw[:len(l.Raw)-len(strings.TrimLeft(l.Raw, " \t"))]
	return lead, strings.TrimLeft(l.Raw[len(lead)+len(strings.Join(l.optionTexts(), ",")):], " \t")
}

// before returns a key's text with options before it.
func before(options []string, rest string) string {
	if len(options) == 0 {
		return rest
	}
	return strings.Join(options, ",") + " " + rest
}

// optionTexts returns the options as they are written.
func (l Line) optionTexts() (out []string) {
	if len(l.Options) == 0 {
		return nil
	}
	start, quoted := 0, false
	text := strings.TrimLeft(l.Raw, " \t")
	for at := 0; at < len(text); at++ {
		switch c := text[at]; {
		case c == '\\' && quoted && at+1 < len(text) && text[at+1] == '"':
			at++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == ',':
			out, start = append(out, text[start:at]), at+1
		case c == ' ' || c == '\t':
			return append(out, text[start:at])
		}
	}
	return out
}

// Limits says in words what keeps the line from opening the login for everybody
// who holds the key, from everywhere, with a shell; none for an ordinary line.
func (l Line) Limits(now time.Time) []string {
	var out []string
	if at, ok := l.Expiry(time.UTC); ok && !now.Before(at) {
		out = append(out, "expired")
	} else if ok {
		out = append(out, "until "+at.Format("2 Jan 2006"))
	}
	if from, ok := l.Option("from"); ok {
		out = append(out, "only from "+from)
	}
	if command, ok := l.Option("command"); ok {
		out = append(out, "only the command "+command)
	}
	if _, ok := l.Option("cert-authority"); ok {
		out = append(out, AuthorityLimit)
	}
	return out
}

// Opens reports whether the line opens the login with a shell, at that time, for
// a client from somewhere: not expired, no forced command, no certificate authority.
func (l Line) Opens(now time.Time) bool {
	if l.Kind != Key {
		return false
	}
	at, expires := l.Expiry(time.UTC)
	_, command := l.Option("command")
	_, authority := l.Option("cert-authority")
	return !(expires && !now.Before(at)) && !command && !authority
}

// Find returns the lines that hold the key.
func (f File) Find(blob []byte) []Line {
	var out []Line
	for _, l := range f {
		if l.Kind == Key && bytes.Equal(l.Blob, blob) {
			out = append(out, l)
		}
	}
	return out
}

// Add returns the file with the text as its last line. The line end is the one
// that the file uses; a missing last line end is set before it. Nothing else changes.
func (f File) Add(text string) File {
	end := "\n"
	if len(f) > 0 && strings.HasSuffix(f[0].Raw, "\r\n") {
		end = "\r\n"
	}
	out := append(File(nil), f...)
	if n := len(out); n > 0 && !strings.HasSuffix(out[n-1].Raw, "\n") {
		out[n-1] = parseLine(out[n-1].Raw+end, n)
	}
	return append(out, parseLine(text+end, len(out)+1))
}

// AuthorityLimit is what Limits says of a line whose certificates open a login, and not the key itself.
const AuthorityLimit = "a certificate authority, not a key"

// Change is a line that came or went between two versions of a file.
type Change struct {
	Came bool
	Line Line
}

// Differences returns which lines went from before and which came in after, by
// their text, in the order of the files. A line that only moved is not told of.
func Differences(before, after File) []Change {
	left := map[string]int{}
	for _, l := range after {
		left[strings.TrimRight(l.Raw, "\r\n")]++
	}
	var out []Change
	for _, l := range before {
		text := strings.TrimRight(l.Raw, "\r\n")
		if left[text] > 0 {
			left[text]--
			continue
		}
		out = append(out, Change{Came: false, Line: l})
	}
	for _, l := range after {
		text := strings.TrimRight(l.Raw, "\r\n")
		if left[text] > 0 {
			left[text]--
			out = append(out, Change{Came: true, Line: l})
		}
	}
	return out
}
