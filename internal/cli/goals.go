package cli

import (
	"cmp"
	"fmt"
	"io"
	"math"
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
	"rotate plan": "dry run, one key for nine machines, one key on many machines, replace keys, change a key " +
		"everywhere, leaked key, shared key, old keys, weak rsa, end " +
		"sharing, new key for each instance, expire",
	"rotate start": "replace keys, change a key everywhere, end sharing, urgent leak",
	"reach":        "what is wrong, which logins are at risk, how safe, overview, attention, audit",
	"reach map":    "overview, matrix of keys and instances",
	"openers":      "who can get in, who has access, which keys open an instance, authorized keys of a server",
	"find": "search, look up, where is, which instance has this address, " +
		"find a server by name or ip, who is",
	"host-key pin": "host key changed, remote host identification has changed, machine was reinstalled, " +
		"known hosts, man in the middle",
	"way accept":    "allow passwords, a certificate authority is fine, this way in is wanted, silence a warning",
	"login add":     "another user on a server, add an os user, second login, deploy user",
	"report access": "who could open a machine three weeks ago, auditor, audit report, access at a date, point in time",
	"opens":         "what does this key open, where is this key, which servers",
	"trace":         "whose key is this, unknown fingerprint, md5 fingerprint, what is this file, identify",
	"sweep":         "read authorized_keys, look for strangers, unknown keys, check servers, scan, drift",
	"settle":        "unknown key in authorized_keys, stranger, drift, clean up, differences, missing line",
	"grant add": "coworker until friday, access for two days, access that expires, expire, let somebody " +
		"in, give access, add a key to a server, temporary access, share access",
	"grant withdraw": "take access away, remove a key from a server, revoke access",
	"grant list":     "who was given access, when does access end",
	"mail set":       "notify me, remind me, e-mail, tell me by mail",
	"prove":          "show that I have a key, stale, test a login, verify",
	"why": "host key failed, host key verification failed, permission denied, connection refused, " +
		"cannot connect, host key changed, debug ssh, timeout",
	"connect":         "log in, ssh, open a shell, copy files to a server, run a command on a machine, scp, sftp",
	"ssh-config":      "ssh config, known_hosts, host aliases",
	"instance launch": "new virtual machine, new server, create a machine, new vm, provision",
	"instance adopt":  "existing server, bring in a host, import a machine, our own machines, on premises",
	"instance steward": "let the service manage a server, automatic sweeps, service account, sudoers rule, " +
		"least privilege",
	"key list":       "which keys do I hold, list keys, my keys",
	"key change":     "rename a key, change keys labels, change the purpose of a key",
	"key new":        "generate a key pair, create a key, make a key",
	"key import":     "upload a public key, existing public key, register a key, csv of keys",
	"key inspect":    "is this a private key, key format, weak key, what kind of file",
	"key convert":    "ppk, pem, pkcs8, change the format, windows client",
	"key passphrase": "change the passphrase, encrypt a private key",
	"key public":     "derive the public key from the private one",
	"key private":    "get the private key out, download the private key",
	"key found":      "I found my key again, the lost key is back, take back that a key is lost",
	"key forget":     "delete the kept private key from the service",
	"key hand-over":  "change the owner of a key, give a key to somebody else, new holder",
	"operator leave": "somebody leaves the team for good, somebody leaves the company, offboard, quits, " +
		"employee gone, remove a person",
	"operator add": "new person, onboard, create an account, add a user",
	"operator change": "make somebody an admin, reset a second factor, change a role, promote, demote, reset a " +
		"password, lock an account, close an account",
	"team add":          "new team, group",
	"token new":         "expire, api token, access from a script, ci job, automation",
	"factor add":        "two factor, second factor, totp, authenticator, mfa",
	"session list":      "who is signed in",
	"session end":       "end a session, sign out everywhere",
	"sign-out":          "sign out, log out, forget the token on this machine",
	"sign-in":           "sign in, log in to the service",
	"password":          "change my password",
	"daybook export":    "download all data, download the log, export everything",
	"daybook list":      "what was done, history, audit log, who did it",
	"daybook check":     "was the log tampered with, audit, integrity",
	"daybook head":      "evidence for an auditor",
	"subscriber add":    "webhook, syslog, alert, notify, siem, chat message",
	"safe new-key":      "new safe key, rotate the safe key",
	"rotate pause":      "stop a rotation for now, hold a rotation",
	"rotate undo":       "undo a rotation, roll back",
	"restore undo":      "undo a restore, roll back",
	"restore rehearse":  "dry run, try a way back in, test a route without doing it, rehearse",
	"rule add":          "rotate keys automatically, every year, schedule",
	"instance stop":     "power off, shut down a machine, turn a server off",
	"instance start":    "start a stopped machine, power on, turn a server on",
	"instance list":     "list servers, all machines, inventory",
	"completion":        "tab completion, shell completion",
	"instance delete":   "delete a server, remove a machine",
	"instance password": "windows password, administrator password",
	"login history":     "what changed in authorized_keys, earlier versions, what did authorized_keys look like before",
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
			out = append(out, cmp.Or(alike[stem(w)], stem(w)))
		}
	}
	return out
}

const (
	mostSuggested = 6
	// leastCovered is how much of a wish, by the weight of its words, a command has to be about.
	leastCovered = 0.5
)

// alike are words that mean the same here, by the one that is looked for.
var alike = map[string]string{
	"server": "instanc", "machin": "instanc", "host": "instanc", "vm": "instanc", "box": "instanc", "node": "instanc",
	"employe": "person", "coworker": "person", "colleagu": "person", "teammat": "person", "somebod": "person",
	"someon": "person", "user": "person", "peopl": "person", "left": "leav", "leaver": "leav", "gone": "leav",
	"destroy": "delet", "remov": "delet", "unknown": "unknown", "unauthoriz": "unknown", "stranger": "unknown",
	"pair": "pair", "twofactor": "two", "scheduled": "schedul", "automatical": "schedul", "dai": "day", "week": "day",
}

// suggested returns the commands that fit what somebody wants, in plain words, the best first; none where none is
// about enough of it. A word counts for more the fewer commands it fits, and where it is in the name or the goals
// of a command for more than in its summary.
func suggested(words []string) []kit.Command {
	wanted := stems(strings.Join(words, " "))
	all := commands()
	texts := make([]map[string]float64, len(all))
	fits := map[string]float64{} // how many commands have the word
	for i, c := range all {
		texts[i] = map[string]float64{}
		for _, text := range []struct {
			weight float64
			text   string
		}{{3, c.Name}, {4, goals[c.Name]}, {2, c.Summary}} {
			for _, w := range stems(text.text) {
				texts[i][w] = max(texts[i][w], text.weight)
			}
		}
		for w := range texts[i] {
			fits[w]++
		}
	}
	weigh := func(w string) float64 { return math.Log(1 + float64(len(all))/max(fits[w], 1)) }
	whole := 0.0
	for _, w := range wanted {
		whole += weigh(w)
	}
	type hit struct {
		kit.Command
		score float64
	}
	var hits []hit
	for i, c := range all {
		score, covered := 0.0, 0.0
		for _, w := range wanted {
			if texts[i][w] > 0 {
				score += texts[i][w] * weigh(w)
				covered += weigh(w)
			}
		}
		if whole > 0 && covered/whole >= leastCovered {
			hits = append(hits, hit{c, score + 4*phrase(goals[c.Name], wanted)})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(b.score, a.score) })
	var out []kit.Command
	for _, h := range hits[:min(len(hits), mostSuggested)] {
		out = append(out, h.Command)
	}
	return out
}

// phrase returns how much of the best of the phrases is wanted, from 0 to 1, for those of two words or more.
func phrase(phrases string, wanted []string) float64 {
	best := 0.0
	for p := range strings.SplitSeq(phrases, ",") {
		words := stems(p)
		both := 0.0
		for _, w := range words {
			if slices.Contains(wanted, w) {
				both++
			}
		}
		if both > 1 {
			best = max(best, both/float64(max(len(words), len(wanted))))
		}
	}
	return best
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
