package kit

import (
	"context"
	"net/http"
	"os"
	"strings"

	"plumlatch/internal/apiclient"
)

func SignInOnce(
	ctx context.Context, client *apiclient.Client, name, password, code string,
) (apiclient.Me, []*http.Cookie, error) {
	resp, err := client.SignIn(ctx, apiclient.SignIn{Name: name, Password: password, Code: Optional(code)})
	var cookies []*http.Cookie
	if err == nil {
		cookies = resp.Cookies()
	}
	me, err := Answer[apiclient.Me](resp, err)
	return me, cookies, err
}

// Secret reads a secret from a file, from standard input, or from the terminal.
func (s *Session) Secret(prompt, file string) (string, error) {
	if file != "" {
		data, err := os.ReadFile(file)
		return strings.TrimRight(string(data), "\r\n"), err
	}
	if !IsTerminal(s.Env.In) {
		return ReadLine(s.Env.In), nil
	}
	p, err := s.AskSecret(prompt)
	return string(p), err
}

// Gone reports whether the service says that the token no longer opens anything.
func Gone(err error) bool { return Code(err) == "not-signed-in" || Code(err) == "no-such-token" }
