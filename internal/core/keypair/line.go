package keypair

import (
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"plumlatch/internal/core/wire"
)

// MaxTextBytes is the greatest text taken as one public key, in bytes.
const MaxTextBytes = 64 << 10

// privateMarks find a private key in any of its usual wrappings: a PEM
// header, the header of a .ppk file, and the magic of OpenSSH's own format in
// base64, which shows even when the header line was lost.
var privateMarks = regexp.MustCompile(
	`(?i)BEGIN [A-Z0-9 ]*PRIVATE|-User-Key-File-[0-9]|Private-Lines:|b3BlbnNzaC1rZXktdj|"d"\s*:\s*"`,
)

// bareDER finds a private key in PEM whose header line was lost: base64 of a
// PKCS#1, SEC1 or PKCS#8 structure, which begins with a SEQUENCE and a version.
var bareDER = regexp.MustCompile(`(?m)^[> \t\x{feff}]*M(?:..CAQ[AE]|I..AgE[AB]|II...IBA[A-D])|BgkqhkiG9w0BBQ0`)

var base64Run = regexp.MustCompile(`^[A-Za-z0-9+/]+={0,2}$`)

// HoldsPrivate reports whether text shows the marks of a private key.
func HoldsPrivate(text string) bool {
	// Most texts hold none of these words, which are found far faster than the whole expression.
	upper := strings.ToUpper(text)
	for _, word := range []string{"PRIVATE", "-USER-KEY-FILE-", "B3BLBNNZAC1RZXKTDJ", `"D"`} {
		if strings.Contains(upper, word) {
			if privateMarks.MatchString(text) {
				return true
			}
			break
		}
	}
	for _, letters := range []string{"CAQ", "AgE", "IBA", "BgkqhkiG9w0BBQ0"} {
		if strings.Contains(text, letters) {
			return bareDER.MatchString(text)
		}
	}
	return false
}

// ReadLine reads one public key in the one-line OpenSSH form: a type, the key
// data in base64, and perhaps a comment. Blanks around the line, blank lines,
// and the line end, LF or CRLF, do not matter. The error is a *Refusal.
func ReadLine(text string) (Public, error) {
	if r := checkPublicText(text, MaxTextBytes); r != nil {
		return Public{}, r
	}
	if !utf8.ValidString(text) {
		return Public{}, &Refusal{
			Code:    CodeBadBlob,
			Problem: "the text is not valid UTF-8, so it is no public key in the one-line form",
			Remedy:  "Give the one line of the .pub file",
		}
	}
	lines := significantLines(text)
	if len(lines) == 0 {
		return Public{}, &Refusal{
			Code:    CodeEmpty,
			Problem: "there is no key in the text",
			Remedy:  "Give the one line of the .pub file: it begins with a type such as ssh-ed25519",
		}
	}
	if r := otherForm(lines[0]); r != nil {
		return Public{}, r
	}
	if len(lines) > 1 {
		return Public{}, refuseLines(lines)
	}
	return readOne(lines[0])
}

type textLine struct {
	number int
	column int // of the first character of text
	text   string
}

func significantLines(text string) []textLine {
	var out []textLine
	for i, l := range strings.Split(text, "\n") {
		trimmed := strings.TrimLeftFunc(strings.TrimLeft(l, "\ufeff"), unicode.IsSpace)
		column := utf8.RuneCountInString(l) - utf8.RuneCountInString(trimmed) + 1
		trimmed = strings.TrimRightFunc(trimmed, unicode.IsSpace)
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		out = append(out, textLine{number: i + 1, column: column, text: trimmed})
	}
	return out
}

func otherForm(l textLine) *Refusal {
	form := ""
	switch {
	case strings.Contains(l.text, "BEGIN SSH2 PUBLIC KEY"):
		form = "the armoured SSH2 form (RFC 4716)"
	case strings.Contains(l.text, "BEGIN CERTIFICATE"):
		form = "an X.509 certificate"
	case strings.Contains(l.text, "BEGIN") && strings.Contains(l.text, "PUBLIC KEY"):
		form = "PEM"
	case strings.HasPrefix(l.text, "{"):
		form = "JSON"
	default:
		return nil
	}
	return &Refusal{
		Code: CodeOtherForm, Line: l.number, Column: l.column,
		Problem: "this is " + form + ", not the one-line OpenSSH form",
		Remedy: "Have the program that made the key save or show its public key in the OpenSSH one-line form, which " +
			"begins with a type such as ssh-ed25519",
	}
}

// refuseLines tells one key wrapped over lines from several keys.
func refuseLines(lines []textLine) *Refusal {
	joined := lines[0].text
	for _, l := range lines[1:] {
		if len(strings.Fields(l.text)) > 1 && knownType(strings.Fields(l.text)[0]) {
			return &Refusal{
				Code: CodeSeveral, Line: l.number, Column: l.column,
				Problem: fmt.Sprintf("a second key begins here; the text has %d lines", len(lines)),
				Remedy:  "Import one key at a time, each under its own name",
			}
		}
		joined += l.text
	}
	second := lines[1]
	if _, err := readOne(textLine{number: 1, column: 1, text: joined}); err == nil ||
		base64Run.MatchString(strings.Fields(second.text)[0]) {
		return &Refusal{
			Code: CodeWrapped, Line: second.number, Column: second.column,
			Problem: fmt.Sprintf("the key is wrapped over %d lines: it continues here, but must be one line", len(lines)),
			Remedy:  "Copy it again from the .pub file without line breaks, or give the file itself with -from FILE",
		}
	}
	return &Refusal{
		Code: CodeSeveral, Line: second.number, Column: second.column,
		Problem: "there is more text after the key's line",
		Remedy:  "Give only the one line of the .pub file",
	}
}

func readOne(l textLine) (Public, error) {
	typ, rest, _ := strings.Cut(l.text, " ")
	if tab, after, ok := strings.Cut(typ, "\t"); ok {
		typ, rest = tab, after+" "+rest
	}
	if r := refuseType(l, typ, rest); r != nil {
		return Public{}, r
	}
	blobText := strings.TrimLeft(rest, " \t")
	blobColumn := l.column + utf8.RuneCountInString(typ) + 1 + len(rest) - len(blobText)
	comment := ""
	if i := strings.IndexAny(blobText, " \t"); i >= 0 {
		blobText, comment = blobText[:i], strings.TrimSpace(blobText[i:])
	}
	at := func(offset int) (int, int) { return l.number, blobColumn + offset }
	if blobText == "" {
		return Public{}, &Refusal{
			Code:    CodeCutShort,
			Line:    l.number,
			Column:  l.column + len(typ),
			Problem: "the line ends after the key type; the key data is missing",
			Remedy:  "Copy the whole line of the .pub file",
		}
	}
	blob, err := base64.StdEncoding.Strict().DecodeString(blobText)
	if err != nil {
		return Public{}, refuseBase64(blobText, comment, at)
	}
	inner := wire.Reader{Rest: blob}
	if name := string(inner.Str()); inner.Err == nil && name != typ {
		line, column := at(0)
		return Public{}, &Refusal{
			Code:    CodeMismatch,
			Line:    line,
			Column:  column,
			Problem: fmt.Sprintf("the line says %s, but the key data says %q", typ, printable(name)),
			Remedy:  "The line was edited or put together from two keys. Copy it again from the .pub file",
		}
	}
	p, err := ReadBlob(blob)
	var weak *Refusal
	switch {
	case errors.As(err, &weak):
		weak.Line, weak.Column = at(0)
		return Public{}, weak
	case errors.Is(err, wire.ErrShort):
		return Public{}, refuseShort(blobText, comment, at)
	case err != nil:
		line, column := at(0)
		return Public{}, &Refusal{
			Code:    CodeBadBlob,
			Line:    line,
			Column:  column,
			Problem: "the key data is damaged: " + err.Error(),
			Remedy:  "Copy the whole line again from the .pub file",
		}
	}
	p.Comment = comment
	if err := CheckComment(comment); err != nil {
		return Public{}, err
	}
	return p, nil
}

// CheckComment refuses a comment with control characters, which could spoil a
// terminal or a file, or over 1024 bytes. The error is a *Refusal.
func CheckComment(comment string) error {
	if len(comment) > 1024 {
		return &Refusal{
			Code:    CodeBadComment,
			Problem: fmt.Sprintf("the comment has %d bytes; 1024 is the limit", len(comment)),
			Remedy:  "Give a shorter comment",
		}
	}
	column := 0
	for _, r := range comment {
		column++
		if unicode.IsControl(r) || r == utf8.RuneError || r == '\u2028' || r == '\u2029' ||
			unicode.Is(unicode.Bidi_Control, r) {
			return &Refusal{
				Code:    CodeBadComment,
				Problem: fmt.Sprintf("character %d of the comment is a control character (%U)", column, r),
				Remedy:  "Give another comment, or drop it",
			}
		}
	}
	return nil
}

func knownType(s string) bool {
	_, ok := algorithms[s]
	return ok || s == "ssh-dss" || strings.HasSuffix(s, "-cert-v01@openssh.com")
}

func refuseType(l textLine, typ, rest string) *Refusal {
	r := &Refusal{Line: l.number, Column: l.column}
	_, known := algorithms[typ]
	switch {
	case known:
		return nil
	case typ == "ssh-dss":
		r.Code, r.Problem = CodeUnknownType, "this is a DSA key (ssh-dss): 1024 bits, and OpenSSH has refused them since "+
			"version 7.0"
		r.Remedy = "Make a new key: plumlatch key new NAME"
	case strings.HasSuffix(typ, "-cert-v01@openssh.com"):
		r.Code, r.Problem = CodeUnknownType, "this is a certificate, which a certificate authority signed over a key; it "+
			"is no key itself"
		r.Remedy = "Give the .pub file of the key that was certified, whose name does not end in -cert.pub"
	case strings.HasPrefix(typ, "AAAA") && base64Run.MatchString(typ):
		r.Code, r.Problem = CodeNoType, "the line begins with the key data; the key type before it is missing"
		r.Remedy = "Copy the whole line of the .pub file: it begins with a type such as ssh-ed25519"
	case optionsBefore(l.text):
		r.Code, r.Problem = CodeOptions, "the line begins with options, as in an authorized_keys file"
		r.Remedy = "Give the key alone, from its type onward; options belong to a login, not to the key"
	case knownType(strings.ToLower(typ)):
		r.Code, r.Problem = CodeUnknownType, fmt.Sprintf(
			"the key type is written %q; types are in lower case", printable(typ),
		)
		r.Remedy = "Copy the line again from the .pub file; something changed its letters"
	case rest == "":
		r.Code, r.Problem = CodeNoType, "this is not a public key in the one-line form"
		r.Remedy = "Give the one line of the .pub file: it begins with a type such as ssh-ed25519"
	default:
		r.Code, r.Problem = CodeUnknownType, fmt.Sprintf("%q is not a key type known here", printable(typ))
		r.Remedy = "Known are ssh-ed25519, ssh-rsa, ecdsa-sha2-nistp256, -nistp384, -nistp521, and the hardware-backed sk- " +
			"types"
	}
	return r
}

func optionsBefore(line string) bool {
	fields := strings.Fields(line)
	return len(fields) > 1 && slices.ContainsFunc(fields[1:], knownType)
}

// refuseBase64 tells a key cut short or wrapped with blanks from one with a
// foreign character in it.
func refuseBase64(blobText, comment string, at func(int) (int, int)) *Refusal {
	body := strings.TrimRight(blobText, "=")
	column := 0
	for _, r := range body {
		if !(r < utf8.RuneSelf && base64Run.MatchString(string(r))) {
			line, col := at(column)
			return &Refusal{
				Code:    CodeBadBlob,
				Line:    line,
				Column:  col,
				Problem: fmt.Sprintf("%q does not belong in key data (base64: A-Z a-z 0-9 + / =)", r),
				Remedy:  "An editor or a mail program changed the text. Copy it again from the .pub file",
			}
		}
		column++
	}
	return refuseShort(blobText, comment, at)
}

func refuseShort(blobText, comment string, at func(int) (int, int)) *Refusal {
	line, column := at(len(blobText))
	next := strings.Fields(comment)
	if len(next) > 0 && base64Run.MatchString(next[0]) && len(next[0]) > 15 {
		return &Refusal{
			Code:    CodeWrapped,
			Line:    line,
			Column:  column,
			Problem: "there is a blank in the middle of the key data, as when a wrapped line is joined",
			Remedy:  "Copy it again from the .pub file without breaks, or give the file itself with -from FILE",
		}
	}
	return &Refusal{
		Code:    CodeCutShort,
		Line:    line,
		Column:  column,
		Problem: "the key data ends here, before the key is complete",
		Remedy:  "Copy the whole line again from the .pub file; an RSA key's line can be 700 characters long",
	}
}
