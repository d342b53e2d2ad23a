package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"

	"plumlatch/internal/cli/kit"
)

// goals are what people say they want, in their own words, by the command that does it.
var goals = map[string]string{
	"restore routes": "locked out, lost my private key, can no longer log in, get back in, recover access, forgot " +
		"the passphrase, laptop stolen",
	"restore start": "restore access, recover, get back in",
	"key mark-lost": "laptop stolen, key leaked, compromised, lost key, somebody has my key",
	"rotate plan": "replace keys, change a key everywhere, leaked key, shared key, old keys, weak rsa, end " +
		"sharing, new key for each instance, expire",
	"rotate start": "replace keys, change a key everywhere, end sharing, urgent leak",
	"reach":        "what is wrong, which logins are at risk, how safe, overview, attention, audit",
	"reach map":    "overview, matrix of keys and instances",
	"openers":      "who can get in, who has access, which keys open an instance, authorized keys of a server",
	"find": "search, look up, where is, which instance has this address, " +
		"find a server by name or ip, who is",
	"opens":             "what does this key open, where is this key, which servers",
	"trace":             "whose key is this, unknown fingerprint, md5 fingerprint, what is this file, identify",
	"sweep":             "read authorized_keys, look for strangers, unknown keys, check servers, scan, drift",
	"settle":            "unknown key in authorized_keys, stranger, drift, clean up, differences, missing line",
	"grant add":         "let somebody in, give access, add a key to a server, temporary access, share access",
	"grant withdraw":    "take access away, remove a key from a server, revoke access",
	"grant list":        "who was given access, when does access end",
	"prove":             "show that I have a key, stale, test a login, verify",
	"why":               "permission denied, connection refused, cannot connect, host key changed, debug ssh, timeout",
	"connect":           "log in, ssh, open a shell",
	"ssh-config":        "ssh config, known_hosts, host aliases",
	"instance launch":   "new server, create a machine, new vm, provision",
	"instance adopt":    "existing server, bring in a host, import a machine, our own machines, on premises",
	"instance steward":  "let the service manage a server, automatic sweeps",
	"key new":           "generate a key pair, create a key, make a key",
	"key import":        "upload a public key, existing public key, register a key, csv of keys",
	"key inspect":       "is this a private key, key format, weak key, what kind of file",
	"key convert":       "ppk, pem, pkcs8, change the format, windows client",
	"key passphrase":    "change the passphrase, encrypt a private key",
	"key public":        "derive the public key from the private one",
	"key private":       "get the private key out, download the private key",
	"key forget":        "delete the kept private key from the service",
	"key hand-over":     "change the owner of a key, give a key to somebody else, new holder",
	"operator leave":    "somebody leaves, offboard, quits, employee gone, remove a person",
	"operator add":      "new person, onboard, create an account, add a user",
	"operator change":   "change a role, promote, demote, reset a password, lock an account, close an account",
	"team add":          "new team, group",
	"token new":         "api token, access from a script, ci job, automation",
	"factor add":        "two factor, second factor, totp, authenticator, mfa",
	"session list":      "who is signed in",
	"daybook list":      "what was done, history, audit log, who did it",
	"daybook check":     "was the log tampered with, audit, integrity",
	"daybook head":      "evidence for an auditor",
	"subscriber add":    "webhook, syslog, alert, notify, siem, chat message",
	"safe new-key":      "new safe key, rotate the safe key",
	"rule add":          "rotate keys automatically, every year, schedule, standing",
	"instance delete":   "delete a server, remove a machine",
	"instance password": "windows password, administrator password",
	"login history":     "what changed in authorized_keys, earlier versions",
}

// ordinary words say nothing of what is wanted.
const ordinary = " a an and are at be can do does for from get has have how i in into is it me my not of on or our " +
	"out so that the their them then there they this to up us want was we what when where which with would you "

// stem cuts the ends off a word that tell little.
func stem(word string) string {
	for _, end := range []string{"ing", "ies", "es", "ed", "s", "y", "e"} {
		if cut, ok := strings.CutSuffix(word, end); ok && len(cut) >= 3 {
			return cut
		}
	}
	return word
}

func stems(text string) []string {
	var out []string
	for _, w := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) &&
			!unicode.IsDigit(r) && r != '_'
	}) {
		if !strings.Contains(ordinary, " "+w+" ") {
			out = append(out, stem(w))
		}
	}
	return out
}

const mostSuggested = 6

// suggested returns the commands that fit what somebody wants, in plain words, the best
// first. A word counts for more the fewer commands it fits.
func suggested(words []string) []kit.Command {
	wanted := stems(strings.Join(words, " "))
	all := commands()
	texts := make([]map[string]float64, len(all))
	fits := map[string]float64{} // how many commands have the word
	for i, c := range all {
		texts[i] = map[string]float64{}
		for weight, text := range map[float64]string{4: c.Name, 3: goals[c.Name], 2: c.Summary, 1: c.Detail} {
			for _, w := range stems(text) {
				texts[i][w] = max(texts[i][w], weight)
			}
		}
		for w := range texts[i] {
			fits[w]++
		}
	}
	type hit struct {
		kit.Command
		score float64
	}
	var hits []hit
	for i, c := range all {
		score := 0.0
		for _, w := range wanted {
			if texts[i][w] > 0 {
				score += texts[i][w] / fits[w]
			}
		}
		if score > 0 {
			hits = append(hits, hit{c, score})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(b.score, a.score) })
	var out []kit.Command
	for _, h := range hits[:min(len(hits), mostSuggested)] {
		out = append(out, h.Command)
	}
	return out
}

// suggest writes the commands that fit what somebody wants, and reports whether any does.
func suggest(w io.Writer, words []string) bool {
	found := suggested(words)
	if len(found) == 0 {
		return false
	}
	fmt.Fprintln(w, "These may be what you want:")
	writeSummaries(w, found)
	fmt.Fprintf(w, "\nMore on one, with examples: plumlatch help %s\n", found[0].Name)
	return true
}
