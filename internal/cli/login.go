package cli

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
)

// errNotTried is wrapped by what kept a login from being tried at all.
var errNotTried = errors.New("it was not possible from here")

// tryLogin completes a login with the private half in the file, and returns
// nil only if that succeeded. The host must show a pinned key.
func (s *session) tryLogin(ctx context.Context, c apiclient.Connection, file string) error {
	if file == "" {
		return fmt.Errorf("%w: no private half that fits is on this machine", errNotTried)
	}
	half, err := s.fileHalf(file, "", true)
	if errors.Is(err, keypair.ErrPassphraseNeeded) {
		return fmt.Errorf("%w: %s has a passphrase", errNotTried, file)
	}
	if err != nil {
		return fmt.Errorf("%w: %s cannot be read: %w", errNotTried, file, err)
	}
	session, _, err := enter(ctx, c, []atHand{half})
	if err == nil {
		session.Close()
	}
	return err
}
