package sshio

import (
	"bytes"
	"fmt"
	"time"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
)

// Entry is that a login was completed with a key. It is what lets lines of other keys be removed,
// and only this package gives one: for a session that was opened with a key, and for a
// report that is signed with the key. The zero Entry is none.
type Entry struct {
	key []byte
	at  time.Time
}

// Key is the key in the wire form; nil for none.
func (e Entry) Key() []byte { return e.key }

// At is when the login was completed.
func (e Entry) At() time.Time { return e.at }

// Entry is the login that this session is; none where a password or a certificate opened it, or where another user
// became this one.
func (s *Session) Entry() Entry {
	if s.key == nil || s.under != nil {
		return Entry{}
	}
	return Entry{bytes.Clone(s.key), s.at}
}

// SignedEntry is the login that somebody completed from their own machine and reported, signed
// with the key in the wire form. The caller has to see that the report is of the login, the
// host key and the run that it is taken for.
func SignedEntry(report signature.Entry, armoured string, key []byte) (Entry, error) {
	if got := keypair.FormatSHA256(keypair.Public{Blob: key}.SHA256()); got != report.SHA256 {
		return Entry{}, fmt.Errorf("the report is of the key %s, not of %s", report.SHA256, got)
	}
	if err := signature.Verify(armoured, signature.EntryNamespace, []byte(report.Text()), key); err != nil {
		return Entry{}, fmt.Errorf("the report of a login with %s: %w", report.Key, err)
	}
	return Entry{bytes.Clone(key), report.Issued}, nil
}
