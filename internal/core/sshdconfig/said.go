package sshdconfig

import (
	"fmt"
	"strings"

	"plumlatch/internal/core/text"
)

// Said is what sshd -T says of its settings: values by keyword in lower case, several where a keyword has several
// lines.
type Said map[string][]string

// ReadSaid reads the output of sshd -T.
func ReadSaid(out string) Said {
	all := Said{}
	for line := range strings.Lines(out) {
		keyword, value, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		all[keyword] = append(all[keyword], value)
	}
	return all
}

// Against compares the settings with what sshd itself says of the same connection, and tells the first of the keywords
// that differs; "" where none does. A keyword of which sshd says nothing is not set.
func (s Settings) Against(said Said, keywords ...string) string {
	for _, keyword := range keywords {
		real, ok := said[strings.ToLower(keyword)]
		got, want := strings.Join(s.Get(keyword), " "), strings.Join(real, " ")
		if !ok && (got == "no" || got == "none") { // an sshd that is built without it says nothing of it
			continue
		}
		if sameValue(keyword, got) != sameValue(keyword, want) {
			return text.Line(fmt.Sprintf("sshd says %s %s, and its files say %q", keyword, want, got), text.MaxLine)
		}
	}
	return ""
}

// withCase are the keywords whose values differ by their case.
var withCase = []string{
	AllowGroups, AllowUsers, AuthorizedKeysCommand, AuthorizedKeysFile, AuthorizedPrincipalsCommand,
	AuthorizedPrincipalsFile, DenyGroups, DenyUsers, TrustedUserCAKeys,
}

// sameValue puts words that mean the same into one form.
func sameValue(keyword, value string) string {
	for _, k := range withCase {
		if strings.EqualFold(k, keyword) {
			if strings.EqualFold(value, "none") {
				return ""
			}
			return value
		}
	}
	return strings.Replace(strings.ToLower(value), "prohibit-password", "without-password", 1)
}
