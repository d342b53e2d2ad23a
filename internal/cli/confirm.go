package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"

	"plumlatch/internal/apiclient"
)

// confirming is a command that makes tokens, second factors, passwords or accounts: the service
// wants the person's own password for it, given just now, in a session, and takes no token.
type confirming struct {
	file, code string
	// password is the person's own, where the command knows it already.
	password string
}

func (c *confirming) flags(f *flag.FlagSet) {
	f.StringVar(
		&c.file,
		"confirm-file",
		"",
		"`file` that holds your own password, which this needs; asked for unless given",
	)
	f.StringVar(&c.code, "confirm-code", "", "a code of your own second factor; asked for where it is needed")
}

// withConfirmed makes a command that is done in a session which begins with the person's own
// password and ends with the command.
func withConfirmed(f *flag.FlagSet, do call) func(context.Context, *session, []string) error {
	c := &confirming{}
	c.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		return c.do(ctx, s, func(client *apiclient.Client) error { return do(ctx, s, client, args) })
	}
}

func (c *confirming) do(ctx context.Context, s *session, act func(*apiclient.Client) error) error {
	client, err := s.connect()
	if err != nil {
		return err
	}
	me, err := answer[apiclient.Me](client.GetMe(ctx))
	if err != nil {
		return err
	}
	if c.password == "" {
		if c.password, err = s.secret(fmt.Sprintf("This needs your own password, %s: ", me.Name), c.file); err != nil {
			return err
		}
	}
	plain, err := s.dial(s.reached, "")
	if err != nil {
		return err
	}
	_, cookies, err := signInOnce(ctx, plain, me.Name, c.password, c.code)
	if code(err) == "code-needed" && c.code == "" && isTerminal(s.env.In) {
		fmt.Fprint(s.env.Err, "Code of your second factor: ")
		_, cookies, err = signInOnce(ctx, plain, me.Name, c.password, readLine(s.env.In))
	}
	if err != nil {
		return fmt.Errorf("confirm who you are: %w", err)
	}
	confirmed, err := s.dialWith(s.reached, "", cookies)
	if err != nil {
		return err
	}
	failed := act(confirmed)
	if _, err := answerBytes(confirmed.SignOut(ctx)); err != nil && failed == nil && !gone(err) {
		return errors.Join(failed, fmt.Errorf("it is done, but the session for it could not be ended: %w", err))
	}
	return failed
}

// withCookies has requests carry the cookies.
func withCookies(cookies []*http.Cookie) apiclient.RequestEditorFn {
	return func(_ context.Context, r *http.Request) error {
		for _, c := range cookies {
			r.AddCookie(c)
		}
		return nil
	}
}

// call is what a command does once the service is found.
type call func(ctx context.Context, s *session, client *apiclient.Client, args []string) error
