// Package digest decides when a person gets mail about what they have to do, and what it says. It sends nothing.
package digest

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/core/text"
)

// Kind is what a person has to do with a key.
type Kind string

// The kinds: bring the public key of a new pair, take a private key out of the safe, prove a key that is handed over,
// and prove a key anew. Until the first three are done, the person does not get in by that key.
const (
	Bring    Kind = "bring"
	Take     Kind = "take"
	TakeOver Kind = "take-over"
	Prove    Kind = "prove"
)

// Task is one thing to do, since a time.
type Task struct {
	Kind Kind
	Key  string
	At   time.Time
}

// Every is how often a person gets mail at most, Pause how soon after the last one an urgent one follows at the
// earliest.
const (
	Every = 24 * time.Hour
	Pause = 10 * time.Minute
)

// Due reports whether a person gets mail now. last is when they got the last one, nil for never. A task that keeps
// somebody out and is newer than the last mail does not wait for the day to pass.
func Due(tasks []Task, last *time.Time, now time.Time) bool {
	if len(tasks) == 0 {
		return false
	}
	if last == nil || now.Sub(*last) >= Every {
		return true
	}
	return now.Sub(*last) >= Pause && slices.ContainsFunc(tasks, func(t Task) bool {
		return t.Kind != Prove && t.At.After(*last)
	})
}

// kinds are in the order of a mail.
var kinds = []struct {
	kind    Kind
	what    string
	command string
}{
	{Bring, "%s to make: a rotation waits for the public key, and replaces your old key by it", "plumlatch rotate asked"},
	{Take, "%s to take out of the safe: until then you cannot get in by it", "plumlatch key private NAME"},
	{TakeOver, "%s handed over to you: prove that you have the private key", "plumlatch prove NAME"},
	{Prove, "%s to prove, so that it is known that you still have the private key", "plumlatch prove -due"},
}

// named is how many keys of a kind are named.
const named = 10

// Mail returns what the mail says: the names of keys, and nothing else of them. console is the service's address,
// "" where it is not known.
func Mail(person string, tasks []Task, console string) (subject, body string) {
	var out strings.Builder
	fmt.Fprintf(&out, "%s,\n\nPlum Latch waits for you:\n", text.Plain(person))
	for _, k := range kinds {
		var names []string
		for _, t := range tasks {
			if t.Kind == k.kind {
				names = append(names, text.Plain(t.Key))
			}
		}
		if len(names) == 0 {
			continue
		}
		fmt.Fprintf(&out, "\n- "+k.what+"\n", text.Counted(len(names), "key"))
		for _, name := range names[:min(len(names), named)] {
			fmt.Fprintf(&out, "    %s\n", name)
		}
		if more := len(names) - named; more > 0 {
			fmt.Fprintf(&out, "    and %d more\n", more)
		}
		fmt.Fprintf(&out, "  Type: %s\n", k.command)
	}
	if console != "" {
		fmt.Fprintf(&out, "\nOr in the console: %s\n", console)
	}
	out.WriteString("\nThis goes to your address because you confirmed it. To end that: plumlatch mail forget\n")
	return "Plum Latch: " + text.Counted(len(tasks), "thing") + " to do", out.String()
}

// Confirmation is the mail by which somebody confirms that an address is theirs.
func Confirmation(person, code, console string) (subject, body string) {
	var out strings.Builder
	fmt.Fprintf(
		&out, "%s asked for mail from Plum Latch to this address.\n\nIf that is you, confirm it within a day:\n",
		text.Plain(person),
	)
	if console != "" {
		fmt.Fprintf(&out, "\n    %s/settings?mail=%s\n\nor type:\n", console, code)
	}
	fmt.Fprintf(&out, "\n    plumlatch mail confirm %s\n\nOtherwise do nothing: you will get no other mail.\n", code)
	return "Plum Latch: confirm your e-mail address", out.String()
}
