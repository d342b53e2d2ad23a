package restore

import "strings"

// passwordsOff are the lines that turn password login off. sshd_config(5): the first
// value that is found counts, also before what an Include brings, so they come first.
var passwordsOff = []string{"PasswordAuthentication no", "KbdInteractiveAuthentication no"}

// PasswordsOff returns an sshd_config in which password login is off for everybody. What
// stood in it stays byte for byte, below. Lines that a Match block has for itself still
// count there. Where it is off already, the text comes back as it is.
func PasswordsOff(config string) string {
	before := config
	for n := len(passwordsOff) - 1; n >= 0; n-- {
		if !leads(before, passwordsOff[n]) {
			config = passwordsOff[n] + "\n" + config
		}
	}
	return config
}

// leads reports whether the line is among the first settings, before any Include or
// Match.
func leads(config, line string) bool {
	for l := range strings.Lines(config) {
		word := strings.Fields(l)
		switch {
		case len(word) == 0 || strings.HasPrefix(word[0], "#"):
			continue
		case strings.EqualFold(strings.Join(word, " "), line):
			return true
		case strings.EqualFold(word[0], strings.Fields(line)[0]) || strings.EqualFold(word[0], "Include") ||
			strings.EqualFold(word[0], "Match"):
			return false
		}
	}
	return false
}
