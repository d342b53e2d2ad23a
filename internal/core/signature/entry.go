package signature

import (
	"encoding/base64"
	"fmt"
	"time"
)

// EntryNamespace is the one that reports of completed logins are signed in.
const EntryNamespace = "entry@plumlatch"

// Entry is a report of a completed login, signed with the key that was logged in with. The service
// issues its text once the login was completed, so that the signature is of that time.
type Entry struct {
	Service string `json:"service"`
	Person  string `json:"person"`
	// Login is user@instance; HostKey is the SHA-256 fingerprint of the host key that was seen.
	Login   string `json:"login"`
	HostKey string `json:"host_key"`
	// Key is the name of the key that was logged in with, SHA256 its fingerprint.
	Key    string `json:"key"`
	SHA256 string `json:"sha256"`
	// Run is what the login was completed for, "" for nothing.
	Run     string    `json:"run,omitempty"`
	Nonce   []byte    `json:"nonce"`
	Issued  time.Time `json:"issued"`
	Expires time.Time `json:"expires"`
}

// Text is what is signed.
func (e Entry) Text() string {
	return fmt.Sprintf(
		"I have just completed a login with this key.\nservice: %s\nperson: %s\nlogin: %s\nhost key: %s\nkey: "+
			"%s\nfingerprint: %s\nrun: %s\nissued: %s\nvalid until: %s\nnonce: %s\n",
		e.Service,
		e.Person,
		e.Login,
		e.HostKey,
		e.Key,
		e.SHA256,
		e.Run,
		e.Issued.UTC().Format(time.RFC3339Nano),
		e.Expires.UTC().Format(time.RFC3339),
		base64.RawURLEncoding.EncodeToString(e.Nonce),
	)
}
