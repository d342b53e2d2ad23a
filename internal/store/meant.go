package store

import (
	"strings"

	"github.com/google/uuid"
)

// shortestID is how many hexadecimal digits of an id mean it at least.
const shortestID = 4

// idsFrom returns the first and the last id that begin as text does; ok is false where none can.
func idsFrom(text string) (first, last uuid.UUID, ok bool) {
	digits := strings.ToLower(strings.ReplaceAll(text, "-", ""))
	if len(digits) < shortestID || len(digits) > 32 || strings.Trim(digits, "0123456789abcdef") != "" {
		return uuid.Nil, uuid.Nil, false
	}
	rest := 32 - len(digits)
	first, err := uuid.Parse(digits + strings.Repeat("0", rest))
	if err != nil {
		return uuid.Nil, uuid.Nil, false
	}
	last, err = uuid.Parse(digits + strings.Repeat("f", rest))
	return first, last, err == nil
}

// instanceMeant returns the name of the instance in the name of an instance or a login.
func instanceMeant(text string) string {
	if _, instance, ok := strings.Cut(text, "@"); ok {
		return instance
	}
	return text
}
