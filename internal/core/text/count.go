package text

import (
	"strconv"
	"strings"
)

// Counted is a number with its noun, which is given in the singular.
func Counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	plural := noun + "s"
	if stem, ok := strings.CutSuffix(noun, "entry"); ok {
		plural = stem + "entries"
	}
	return strconv.Itoa(n) + " " + plural
}
