package kit

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"

	"plumlatch/internal/apiclient"
)

// Confirming is a command that makes tokens, second factors, passwords or accounts: the service
// wants the person's own password for it, given just now, in a session, and takes no token.
type Confirming struct {
	file, Code string
	// Password is the person's own, where the command knows it already.
	Password string
}

func (c *Confirming) flags(f *flag.FlagSet) {
	f.StringVar(
		&c.file, "confirm-file", "", "`file` with your own password, which this needs; asked for unless given",
	)
	f.StringVar(&c.Code, "confirm-code", "", "a code of your own second factor; asked for when needed")
}

// WithConfirmed makes a command that is done in a session which begins with the person's own
// password and ends with the command.
func WithConfirmed(f *flag.FlagSet, do Call) func(context.Context, *Session, []string) error {
	c := &Confirming{}
	c.flags(f)
	return func(ctx context.Context, s *Session, args []string) error {
		return c.Do(ctx, s, func(client *apiclient.Client) error { return do(ctx, s, client, args) })
	}
}

func (c *Confirming) Do(ctx context.Context, s *Session, act func(*apiclient.Client) error) error {
	client, err := s.Connect()
	if err != nil {
		return err
	}
	me, err := Answer[apiclient.Me](client.GetMe(ctx))
	if err != nil {
		return err
	}
	if c.Password == "" {
		if c.Password, err = s.Secret(fmt.Sprintf("This needs your own password, %s: ", me.Name), c.file); err != nil {
			return err
		}
	}
	plain, err := s.Dial(s.reached, "")
	if err != nil {
		return err
	}
	_, cookies, err := SignInOnce(ctx, plain, me.Name, c.Password, c.Code)
	if Code(err) == "code-needed" && c.Code == "" && IsTerminal(s.Env.In) {
		fmt.Fprint(s.Env.Err, "Code of your second factor: ")
		_, cookies, err = SignInOnce(ctx, plain, me.Name, c.Password, ReadLine(s.Env.In))
	}
	if err != nil {
		return fmt.Errorf("confirm who you are: %w", err)
	}
	confirmed, err := s.dialWith(s.reached, "", cookies)
	if err != nil {
		return err
	}
	failed := act(confirmed)
	if _, err := AnswerBytes(confirmed.SignOut(ctx)); err != nil && failed == nil && !Gone(err) {
		return errors.Join(failed, fmt.Errorf("it is done, but the session for it could not be ended: %w", err))
	}
	return failed
}

// WithCookies has requests carry the cookies.
func WithCookies(cookies []*http.Cookie) apiclient.RequestEditorFn {
	return func(_ context.Context, r *http.Request) error {
		for _, c := range cookies {
			r.AddCookie(c)
		}
		return nil
	}
}

// Call is what a command does once the service is found.
type Call func(ctx context.Context, s *Session, client *apiclient.Client, args []string) error
