package keypair

import "fmt"

// The codes of a Refusal; they are part of the API.
const (
	CodeEmpty       = "empty"
	CodeTooLarge    = "too-large"
	CodePrivate     = "private-key"
	CodeWrapped     = "wrapped"
	CodeCutShort    = "cut-short"
	CodeSeveral     = "several-keys"
	CodeOtherForm   = "other-form"
	CodeOptions     = "options"
	CodeNoType      = "type-missing"
	CodeUnknownType = "unknown-type"
	CodeMismatch    = "type-and-blob-disagree"
	CodeBadBlob     = "bad-blob"
	CodeBadComment  = "bad-comment"
	CodeTooWeak     = "too-weak"
)

// Refusal says why a text is not taken as a public key. It never holds any of
// the text beyond a key type or a single character.
type Refusal struct {
	// Code is one of the Code constants.
	Code string
	// Line and Column are 1-based positions in the text as given, the column in
	// characters; 0 where the fault is not at one place.
	Line, Column int
	// Problem says what is wrong.
	Problem string
	// Remedy says what to do about it.
	Remedy string
}

func (r *Refusal) Error() string {
	where := ""
	if r.Line > 0 {
		where = fmt.Sprintf("line %d, column %d: ", r.Line, r.Column)
	}
	if r.Remedy == "" {
		return where + r.Problem
	}
	return where + r.Problem + ". " + r.Remedy
}
