package reading

import (
	"errors"
	"slices"
	"testing"
	"time"

	"plumlatch/internal/core/sshdconfig"
)

func TestAWayIsAcceptedAsItWas(t *testing.T) {
	at := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	server := Server{
		Methods:     []sshdconfig.Method{sshdconfig.Password},
		Authorities: []Authority{{Type: "ssh-ed25519", Fingerprint: "SHA256:a"}},
		KeysCommand: "/opt/names %u", KeysUnasked: "not now",
	}
	accepted := []Acceptance{{Kind: WayUnread, By: "ines", At: at}}
	for _, w := range server.Ways("pi") {
		accepted = append(accepted, Acceptance{Kind: w.Kind, ID: w.ID(), Text: w.Text, By: "ines", At: at, Reason: "ours"})
	}
	count := func(s Server) (c Counts) {
		c.CountWays(Mark(s.Ways("pi"), accepted))
		return c
	}
	if got := count(server); got != (Counts{}) {
		t.Errorf("all are accepted, and counted is %+v", got)
	}
	told := Mark(server.Ways("pi"), accepted)[0].Told()
	if want := "password authentication is on; accepted by ines on 2 Nov 2026: ours"; told != want {
		t.Errorf("got %q, want %q", told, want)
	}
	for name, c := range map[string]struct {
		change func(*Server)
		want   Counts
	}{
		"other principals": {func(s *Server) { s.Principals = []string{"/etc/ssh/who"} }, Counts{OtherWays: 1}},
		"one authority more": {func(s *Server) {
			s.Authorities = append(s.Authorities, Authority{Fingerprint: "SHA256:b"})
		}, Counts{OtherWays: 1}},
		"a key that the program names": {func(s *Server) {
			s.KeysUnasked, s.NamedKeys = "", []NamedKey{{Authority: Authority{Fingerprint: "SHA256:c"}}}
		}, Counts{OtherWays: 1}},
		"another method":  {func(s *Server) { s.Methods = append(s.Methods, "gssapi") }, Counts{OtherWays: 1}},
		"nothing is read": {func(s *Server) { s.Unread = "no right to" }, Counts{Unread: 1}},
	} {
		changed := server
		changed.Authorities = slices.Clone(server.Authorities)
		changed.Methods = slices.Clone(server.Methods)
		c.change(&changed)
		if got := count(changed); got != c.want {
			t.Errorf("%s: counted is %+v, want %+v", name, got, c.want)
		}
	}
}

func TestWhatTheServerMakesOfALine(t *testing.T) {
	const one, other = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDUCV6X9BkSyMYBqEHVhvPjRcmn3TjsEsWQ0vG4zqzfk",
		"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl"
	file := []File{{There: true, Content: []byte(one + "\n" + other + "\n")}}
	for text, want := range map[string]struct {
		opens  [2]bool
		limits [2]bool
		doubt  bool
	}{
		"":                               {opens: [2]bool{true, true}},
		"RevokedKeys /list":              {opens: [2]bool{false, true}, limits: [2]bool{true, false}},
		"RevokedKeys /binary":            {opens: [2]bool{true, true}, doubt: true},
		"RevokedKeys /nowhere":           {opens: [2]bool{true, true}, doubt: true},
		"PubkeyAcceptedAlgorithms *rsa*": {limits: [2]bool{true, true}},
		"AuthenticationMethods publickey,password": {opens: [2]bool{true, true}, limits: [2]bool{true, true}},
	} {
		config, _ := sshdconfig.Parse(sshdconfig.File{Content: []byte(text)}, nil)
		settings, err := config.For(sshdconfig.Conn{User: "pi"})
		if err != nil {
			t.Fatal(err)
		}
		s := ServerOf(
			settings,
			sshdconfig.User{Name: "pi", UID: 1000},
			sshdconfig.Conn{User: "pi"},
			func(path string) ([]byte, error) {
				switch path {
				case "/list":
					return []byte("# gone\n" + one + "\n"), nil
				case "/binary":
					return []byte(krlMagic + one), nil
				}
				return nil, errors.New("it is not there")
			},
		).Within()
		lines := Read(file, time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC))
		s.Judge(lines)
		for n, l := range lines.Keys {
			if l.Opens != want.opens[n] || (l.Limits != "") != want.limits[n] {
				t.Errorf("%q: line %d: %v %q, want %+v", text, n+1, l.Opens, l.Limits, want)
			}
		}
		if (s.Doubt != "") != want.doubt {
			t.Errorf("%q: the doubt is %q", text, s.Doubt)
		}
	}
}
