package keypair

import (
	"html"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Note says what was repaired in a text, or left out of it.
type Note struct {
	Line int // 1-based; 0 where it holds for the whole text
	Text string
}

var (
	htmlEntity = regexp.MustCompile(`&(#[0-9]+|#x[0-9A-Fa-f]+|amp|lt|gt|quot|nbsp);`)
	quoting    = regexp.MustCompile(`^(> ?)+`)
	smart      = strings.NewReplacer("“", `"`, "”", `"`, "„", `"`, "‘", "'", "’", "'", "—", "--", "–", "-", "‑", "-", "\u00a0", " ")
	invisible  = strings.NewReplacer("\u200b", "", "\u200c", "", "\u200d", "", "\u2060", "", "\ufeff", "", "\u00ad", "")
	armour     = regexp.MustCompile(`-+ ?(BEGIN|END) [A-Z0-9 ]+ ?-+`)
)

// repair splits a text into its significant lines and takes out what an
// editor, a mail program or a web page put in. Nothing of a key's own text is
// guessed: only what cannot belong to a key is removed or set right.
func repair(text string) ([]textLine, []Note, *Refusal) {
	if !utf8.ValidString(text) {
		return nil, nil, &Refusal{Code: CodeBadBlob, Problem: "the text is not valid UTF-8, so it is no public key in a text form", Remedy: "Give the .pub file itself with -from FILE"}
	}
	var notes []Note
	once := map[string]bool{}
	note := func(line int, what string) {
		if !once[what] {
			once[what] = true
			notes = append(notes, Note{Line: line, Text: what})
		}
	}
	if rest, ok := strings.CutPrefix(text, "\ufeff"); ok {
		text = rest
		note(1, "a byte order mark at the beginning was taken out")
	}
	if strings.Contains(text, "\r") {
		note(0, "the line ends were CRLF, as on Windows, and were read as LF")
		text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	}
	if text != "" && !strings.HasSuffix(text, "\n") && strings.Contains(text, "BEGIN") {
		note(0, "the last line had no line end")
	}
	var out []textLine
	for i, l := range strings.Split(text, "\n") {
		number := i + 1
		fixed := l
		apply := func(changed, what string) {
			if changed != fixed {
				fixed = changed
				note(number, what)
			}
		}
		apply(invisible.Replace(fixed), "invisible characters were taken out")
		if quoting.MatchString(strings.TrimLeft(fixed, " \t")) {
			apply(quoting.ReplaceAllString(strings.TrimLeft(fixed, " \t"), ""), "the quoting of a mail (>) was taken out")
		}
		if htmlEntity.MatchString(fixed) {
			apply(html.UnescapeString(fixed), "HTML entities such as &#43; were read as the characters that they stand for")
		}
		if isArmour := armour.MatchString(smart.Replace(fixed)); isArmour || strings.Contains(fixed, "\u00a0") || smartOptions(fixed) {
			apply(smart.Replace(fixed), "typographic quotes, dashes or blanks were read as plain ones")
		}
		trimmed := strings.TrimLeftFunc(fixed, unicode.IsSpace)
		column := utf8.RuneCountInString(l) - utf8.RuneCountInString(trimmed) + 1
		trimmed = strings.TrimRightFunc(trimmed, unicode.IsSpace)
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		out = append(out, textLine{number: number, column: max(column, 1), text: trimmed})
	}
	return out, notes, nil
}

// smartOptions reports whether typographic quotes stand before a key's type,
// where only options can be.
func smartOptions(line string) bool {
	before, _, found := strings.Cut(line, " AAAA")
	return found && strings.ContainsAny(before, "“”„")
}
