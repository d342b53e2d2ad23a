package daybook

import (
	_ "embed"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/internal/core/text"
)

// sentencesFile has a line for everything that entries tell: its name, and its sentence in
// today's words. The names are kept in the daybook and never change; the words may.
//
//go:embed sentences.txt
var sentencesFile string

var sentences = readSentences(sentencesFile)

func readSentences(file string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(file) {
		name, words, _ := strings.Cut(strings.TrimSpace(line), " ")
		if name != "" && name != "#" {
			out[name] = strings.TrimSpace(words)
		}
	}
	return out
}

// Told are the names of everything that entries tell, sorted.
func Told() []string {
	names := make([]string, 0, len(sentences))
	for name := range sentences {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Action returns the action of an entry that tells of the name: what comes before a colon.
// What comes after it tells apart how the action went.
func Action(told string) string {
	action, _, _ := strings.Cut(told, ":")
	return action
}

// Text returns the entry's sentence, made from its details in today's words. An entry from
// before sentences were made so has the words of its own time, and so has one that
// was redacted.
func (e Entry) Text() string {
	words, ok := sentences[e.Told]
	switch {
	case e.Told == "":
		return e.Sentence
	case !ok: // written by a later version
		return fmt.Sprintf("%s: %s of %s %s.", e.Person, e.Action, e.SubjectKind, e.Subject)
	}
	said, _ := e.fill(words)
	if !strings.HasSuffix(said, ".") { // a list of parts, each of which may have been left out
		said = strings.TrimRight(said, ":; ") + "."
	}
	return said
}

// fill puts the entry's details into the words: {name} is a detail, {name line} is its number with
// that noun, {name time} a time, and {?name} writes nothing. A part in brackets is left out where
// one of its details is missing, empty or false; all reports whether none was.
func (e Entry) fill(words string) (said string, all bool) {
	var out strings.Builder
	all = true
	for words != "" {
		at := strings.IndexAny(words, "{[")
		if at < 0 {
			out.WriteString(words)
			break
		}
		out.WriteString(words[:at])
		closing := map[byte]string{'{': "}", '[': "]"}[words[at]]
		inside, after, _ := strings.Cut(words[at+1:], closing)
		if words[at] == '[' {
			if part, whole := e.fill(inside); whole {
				out.WriteString(part)
			}
		} else {
			field, silent := strings.CutPrefix(inside, "?")
			value := e.detail(field)
			all = all && value != ""
			if !silent {
				out.WriteString(value)
			}
		}
		words = after
	}
	return out.String(), all
}

// detail returns what stands for {name} or {name form}, "" where there is no such detail.
func (e Entry) detail(field string) string {
	name, form, _ := strings.Cut(field, " ")
	switch name {
	case "person":
		return e.Person
	case "subject":
		return e.Subject
	case "why":
		return e.Why
	}
	value := e.Details[name]
	switch form {
	case "":
		return written(value)
	case "time":
		return timed(value)
	}
	n, err := strconv.Atoi(written(value))
	if err != nil {
		return ""
	}
	return text.Counted(n, form)
}

// written returns a detail as it reads. Numbers are float64 once they were read from JSON.
func written(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case bool:
		if !v {
			return ""
		}
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []string:
		return strings.Join(v, ", ")
	case []any:
		parts := make([]string, len(v))
		for n := range v {
			parts[n] = written(v[n])
		}
		return strings.Join(parts, ", ")
	}
	return fmt.Sprint(value)
}

// timed returns a time of RFC 3339 as people write it, in UTC.
func timed(value any) string {
	at, ok := value.(time.Time)
	if !ok {
		var err error
		if at, err = time.Parse(time.RFC3339, written(value)); err != nil {
			return ""
		}
	}
	return at.UTC().Format("2 Jan 2006 15:04 UTC")
}
