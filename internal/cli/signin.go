package cli

import (
	"context"
	"net/http"
	"os"
	"plumlatch/internal/apiclient"
	"strings"
)

func signInOnce(
	ctx context.Context,
	client *apiclient.Client,
	name, password, code string,
) (apiclient.Me, []*http.Cookie, error) {
	resp, err := client.SignIn(ctx, apiclient.SignIn{Name: name, Password: password, Code: optional(code)})
	var cookies []*http.Cookie
	if err == nil {
		cookies = resp.Cookies()
	}
	me, err := answer[apiclient.Me](resp, err)
	return me, cookies, err
}

// secret reads a secret from a file, from standard input, or from the terminal.
func (s *session) secret(prompt, file string) (string, error) {
	if file != "" {
		data, err := os.ReadFile(file)
		return strings.TrimRight(string(data), "\r\n"), err
	}
	if !isTerminal(s.env.In) {
		return readLine(s.env.In), nil
	}
	p, err := s.askSecret(prompt)
	return string(p), err
}

// gone reports whether the service says that the token opens nothing any more.
func gone(err error) bool { return code(err) == "not-signed-in" || code(err) == "no-such-token" }
