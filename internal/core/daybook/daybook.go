// Package daybook chains the entries of the daybook, so that an entry that was
// changed, removed, put in or moved is found.
//
// The hash of an entry is SHA-256 over the hash of the entry before it (32 zero bytes for
// the first) and the entry's canonical JSON (RFC 8785). A head is the number and the
// hash of the last entry at some time; signed and kept elsewhere, it shows later that
// the daybook was not shortened or written again since.
package daybook

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/gowebpki/jcs"
)

// Namespace is the one that heads are signed in (SSHSIG).
const Namespace = "daybook@plumlatch"

// Entry is what the hash of an entry covers.
type Entry struct {
	// Seq is 1 for the first entry, and one more for each after it.
	Seq         int64     `json:"seq"`
	At          time.Time `json:"-"`
	Person      string    `json:"person"`
	Via         string    `json:"via"`
	Action      string    `json:"action"`
	SubjectKind string    `json:"subject_kind"`
	Subject     string    `json:"subject"`
	About       []string  `json:"about"`
	Why         string    `json:"why"`
	Outcome     string    `json:"outcome"`
	// Told names what the entry tells of; its sentence is made from that and from the details.
	Told string `json:"told,omitempty"`
	// Sentence is that of an entry from before there was Told, and of a redacted one.
	Sentence  string         `json:"sentence"`
	Details   map[string]any `json:"details"`
	RequestID string         `json:"request_id"`
}

// Hash is a link of the chain.
type Hash [sha256.Size]byte

// First is what comes before the first entry.
var First Hash

func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// ReadHash reads 64 hexadecimal digits.
func ReadHash(s string) (h Hash, err error) {
	bytes, err := hex.DecodeString(s)
	if h, ok := AsHash(bytes); ok && err == nil {
		return h, nil
	}
	return Hash{}, fmt.Errorf("%.80q is not a hash of 64 hexadecimal digits", s)
}

// AsHash returns the bytes as a Hash; ok is false if they are not 32.
func AsHash(b []byte) (h Hash, ok bool) {
	return h, copy(h[:], b) == len(h) && len(b) == len(h)
}

// Stamp is the time as it is kept and hashed: in UTC, to the microsecond.
func Stamp(t time.Time) time.Time { return t.UTC().Truncate(time.Microsecond) }

// Canonical returns the entry as canonical JSON (RFC 8785), with its time in the
// form of RFC 3339 with six decimals.
func Canonical(e Entry) ([]byte, error) {
	if e.About == nil {
		e.About = []string{}
	}
	if e.Details == nil {
		e.Details = map[string]any{}
	}
	data, err := json.Marshal(struct {
		At string `json:"at"`
		Entry
	}{Stamp(e.At).Format("2006-01-02T15:04:05.000000Z"), e})
	if err != nil {
		return nil, err
	}
	return jcs.Transform(data)
}

// Link returns the hash of an entry that follows one with the hash before.
func Link(before Hash, e Entry) (Hash, error) {
	canonical, err := Canonical(e)
	if err != nil {
		return Hash{}, fmt.Errorf("entry %d: %w", e.Seq, err)
	}
	return sha256.Sum256(append(before[:], canonical...)), nil
}

// Linked is an entry as it is kept, with its place in the chain.
type Linked struct {
	Entry
	Before, Hash []byte
}

// Fault is the first thing that does not fit.
type Fault struct {
	// Seq is the number of the entry at fault, or of the one that is missing.
	Seq  int64
	What string
}

func (f *Fault) Error() string { return fmt.Sprintf("entry %d: %s", f.Seq, f.What) }

// Checker goes through the entries in their order. The zero Checker is ready.
type Checker struct {
	last Hash
	seq  int64
	// Kept is the head to compare with, if there is one.
	Kept *Head
	// untold is what is left of the redacted entries of which no later one has told yet.
	untold   map[int64]string
	redacted []int64
}

// Add takes the next entry. The error is a *Fault if the entry does not fit.
func (c *Checker) Add(l Linked) error {
	switch {
	case l.Seq <= c.seq:
		return &Fault{l.Seq, fmt.Sprintf("it comes after entry %d", c.seq)}
	case l.Seq != c.seq+1 && c.seq == 0:
		return &Fault{1, fmt.Sprintf("the entries up to %d were removed", l.Seq-1)}
	case l.Seq == c.seq+2:
		return &Fault{c.seq + 1, "it was removed"}
	case l.Seq != c.seq+1:
		return &Fault{c.seq + 1, fmt.Sprintf("it and those up to %d were removed", l.Seq-1)}
	case !bytes.Equal(l.Before, c.last[:]):
		return &Fault{
			l.Seq,
			"it does not follow the entry before it, which was changed with its hash, or another was put in its place",
		}
	}
	hash, err := Link(c.last, l.Entry)
	if err != nil {
		return &Fault{l.Seq, "it cannot be written in its canonical form: " + err.Error()}
	}
	kept, whole := AsHash(l.Hash)
	switch {
	case hash == kept && whole:
	case whole && isRedacted(l.Entry):
		if c.untold == nil {
			c.untold = map[int64]string{}
		}
		c.untold[l.Seq], hash = hash.String(), kept
	default:
		return &Fault{l.Seq, "what it says is not what its hash was made of: it was changed"}
	}
	if l.Action == Redaction {
		if err := c.tell(l.Entry); err != nil {
			return &Fault{l.Seq, err.Error()}
		}
	}
	if c.Kept != nil && c.Kept.Seq == l.Seq && c.Kept.Hash != hash {
		return &Fault{
			l.Seq,
			"its hash is not that of the kept head: it or an entry before it was changed, and the hashes made again",
		}
	}
	c.last, c.seq = hash, l.Seq
	return nil
}

// End says what is wrong after the last entry: nil, or a *Fault where the kept head
// is of an entry that is not there.
func (c *Checker) End() error {
	if c.Kept != nil && c.Kept.Seq > c.seq {
		return &Fault{
			c.seq + 1,
			fmt.Sprintf("the daybook was shortened: the kept head is of entry %d, and the last one is %d", c.Kept.Seq, c.seq),
		}
	}
	if len(c.untold) > 0 {
		return &Fault{
			slices.Min(slices.Collect(maps.Keys(c.untold))),
			"its details were taken away, and no later entry tells of that",
		}
	}
	return nil
}

// tell takes note of the entries that e says were redacted.
func (c *Checker) tell(e Entry) error {
	list, err := told(e)
	if err != nil {
		return err
	}
	for _, r := range list {
		if left, there := c.untold[r.Seq]; there && left == r.Left {
			delete(c.untold, r.Seq)
			c.redacted = append(c.redacted, r.Seq)
		}
	}
	return nil
}

// Redacted returns the numbers of the entries whose details were taken away and of which a
// later entry tells.
func (c *Checker) Redacted() []int64 { return c.redacted }

// Head is the number and the hash of the last entry that was added.
func (c *Checker) Head() (seq int64, hash Hash) { return c.seq, c.last }

// Head is the state of a daybook at a time.
type Head struct {
	Service string
	Seq     int64
	Hash    Hash
	At      time.Time
}

// Text is what is signed.
func (h Head) Text() string {
	return fmt.Sprintf(
		"The head of a daybook.\nservice: %s\nentry: %d\nhash: %s\nat: %s\n", h.Service, h.Seq, h.Hash,
		h.At.UTC().Format(time.RFC3339),
	)
}
