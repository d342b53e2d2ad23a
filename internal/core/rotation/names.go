package rotation

import (
	"fmt"
	"strings"
	"time"

	"plumlatch/internal/core/name"
)

// placeholders are what a pattern for names may hold.
var placeholders = []string{"{key}", "{instance}", "{holder}", "{year}", "{month}", "{day}"}

// CheckNames returns the *Fault of a pattern for the names of new keys, nil where it will do.
func CheckNames(pattern string, each Each) error {
	rest := pattern
	for _, p := range placeholders {
		rest = strings.ReplaceAll(rest, p, "a")
	}
	switch {
	case pattern == "":
		return nil
	case strings.ContainsAny(rest, "{}"):
		return &Fault{
			"names", fmt.Sprintf("the pattern %q has a placeholder that is not known", pattern),
			"Use " + strings.Join(placeholders, ", "),
		}
	case name.Check(rest) != nil:
		return &Fault{
			"names", fmt.Sprintf("the pattern %q does not make a name: %v", pattern, name.Check(rest)),
			"Use a-z 0-9 . _ - and placeholders, such as {key}-{year}",
		}
	case each != EachInstance && strings.Contains(pattern, "{instance}"):
		return &Fault{
			"names", "one new key for each old key has no one instance to be named after",
			"Leave {instance} out, or make a key for each instance: -each instance",
		}
	}
	return nil
}

// NamedBy returns the name that a pattern gives to the key that follows an old one, on an instance, at a time of
// which the date in UTC counts. Where it is taken, a number follows: taken says which names are.
func NamedBy(pattern string, old Key, instance string, now time.Time, taken func(string) bool) string {
	now = now.UTC()
	made := name.Suggest(strings.NewReplacer(
		"{key}", old.Name, "{instance}", instance, "{holder}", old.Holder, "{year}", now.Format("2006"),
		"{month}", now.Format("01"), "{day}", now.Format("02"),
	).Replace(pattern))
	if !taken(made) {
		return made
	}
	return NextName(made, taken)
}
