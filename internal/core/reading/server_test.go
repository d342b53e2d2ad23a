package reading

import (
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
