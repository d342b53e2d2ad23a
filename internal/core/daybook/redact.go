package daybook

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
)

// A redaction takes the details of an entry away, such as a private key that was written
// down by mistake, and leaves its hash, so that the chain stays. A later entry with the
// action Redaction names each entry and what was left of it; without that, the entry is at
// fault like any other that was changed.
const Redaction = "daybook.redact"

// redactedDetail marks an entry whose details were taken away.
const redactedDetail = "redacted"

// Redacted is one entry that was redacted, as the entry with the action Redaction tells.
type Redacted struct {
	Seq int64 `json:"seq"`
	// Left is the hash, in hexadecimal, of the entry as it was left.
	Left string `json:"left"`
}

// Redact returns the entry without its details and with the sentence, and how to tell of it.
// Its hash stays what it was.
func Redact(l Linked, sentence string) (Linked, Redacted, error) {
	l.Details, l.Told, l.Sentence, l.Why = map[string]any{redactedDetail: true}, "", sentence, ""
	left, err := left(l)
	return l, Redacted{l.Seq, left}, err
}

func left(l Linked) (string, error) {
	before, ok := AsHash(l.Before)
	if !ok {
		return "", fmt.Errorf("entry %d has no hash before it", l.Seq)
	}
	hash, err := Link(before, l.Entry)
	return hash.String(), err
}

func isRedacted(e Entry) bool {
	marked, _ := e.Details[redactedDetail].(bool)
	return marked
}

// told returns what an entry with the action Redaction tells.
func told(e Entry) ([]Redacted, error) {
	data, err := json.Marshal(e.Details["entries"])
	if err != nil {
		return nil, err
	}
	var list []Redacted
	if err := json.Unmarshal(data, &list); err != nil {
		return nil, fmt.Errorf("entry %d does not tell which entries were redacted: %w", e.Seq, err)
	}
	for _, r := range list {
		if _, err := hex.DecodeString(r.Left); err != nil {
			return nil, fmt.Errorf("entry %d: %w", e.Seq, err)
		}
	}
	return list, nil
}
