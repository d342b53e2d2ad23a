package sshdconfig_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/core/sshdconfig"
)

func settings(t *testing.T, text string, conn sshdconfig.Conn) sshdconfig.Settings {
	t.Helper()
	c, missing := sshdconfig.Parse(sshdconfig.File{Path: "sshd_config", Content: []byte(text)}, nil)
	s, err := c.For(conn)
	if err != nil || len(missing) > 0 {
		t.Fatal(err, missing)
	}
	return s
}

func TestKeyFilesAreThoseOfTheUser(t *testing.T) {
	u := sshdconfig.User{Name: "runa", UID: 1007, Home: "/home/runa"}
	for text, want := range map[string]string{
		"":                                 "/home/runa/.ssh/authorized_keys /home/runa/.ssh/authorized_keys2",
		"AuthorizedKeysFile none":          "",
		"AuthorizedKeysFile /k/%u/%U %h/x": "/k/runa/1007 /home/runa/x",
		"AuthorizedKeysFile ../a/./b %%":   "/home/a/b /home/runa/%",
		"AuthorizedKeysFile .ssh/k .ssh/k": "/home/runa/.ssh/k",
	} {
		got, err := settings(t, text, sshdconfig.Conn{User: "runa"}).KeyFiles(u)
		if err != nil || strings.Join(got, " ") != want {
			t.Errorf("%q: %v %v, want %s", text, got, err, want)
		}
	}
	if got, err := settings(t, "AuthorizedKeysFile /k/%k", sshdconfig.Conn{}).KeyFiles(u); err == nil {
		t.Errorf("a token that is none: %v", got)
	}
}

func TestWhoIsAdmitted(t *testing.T) {
	user, root := sshdconfig.User{Name: "runa", UID: 1007}, sshdconfig.User{Name: "root"}
	near := sshdconfig.Conn{
		Groups: []string{"ops"}, GroupsKnown: true, Address: netip.MustParseAddr("10.0.0.9"), Host: "pier.example",
	}
	nobodyKnows := sshdconfig.Conn{}
	for _, c := range []struct {
		text string
		user sshdconfig.User
		conn sshdconfig.Conn
		want sshdconfig.Truth
		by   string
	}{
		{"", user, nobodyKnows, sshdconfig.Yes, ""},
		{"AllowUsers oona r*", user, near, sshdconfig.Yes, ""},
		{"AllowUsers oona", user, near, sshdconfig.No, "allowusers"},
		{"DenyUsers runa\nAllowUsers runa", user, near, sshdconfig.No, "denyusers"},
		{"AllowUsers runa@10.0.0.0/8", user, near, sshdconfig.Yes, ""},
		{"AllowUsers runa@10.0.0.0/8", user, nobodyKnows, sshdconfig.Maybe, "allowusers"},
		{"AllowUsers runa@*.example", user, near, sshdconfig.Yes, ""},
		{"AllowUsers runa@192.0.2.1", user, near, sshdconfig.No, "allowusers"},
		{"AllowGroups ops", user, near, sshdconfig.Yes, ""},
		{"AllowGroups ops", user, nobodyKnows, sshdconfig.Maybe, "allowgroups"},
		{"DenyGroups o*", user, near, sshdconfig.No, "denygroups"},
		{"PermitRootLogin no", root, near, sshdconfig.No, "permitrootlogin"},
		{"PermitRootLogin no", user, near, sshdconfig.Yes, ""},
		{"Match Address 192.0.2.0/24\nAllowUsers oona", user, nobodyKnows, sshdconfig.Maybe, "allowusers"},
	} {
		c.conn.User = c.user.Name
		if got, by := settings(t, c.text, c.conn).Admits(c.user, c.conn); got != c.want || by != c.by {
			t.Errorf("%q admits %s: %v by %q, want %v by %q", c.text, c.user.Name, got, by, c.want, c.by)
		}
	}
}

func TestMethodsBesideKeys(t *testing.T) {
	user, root := sshdconfig.User{Name: "runa", UID: 1007}, sshdconfig.User{Name: "root"}
	for _, c := range []struct {
		text string
		user sshdconfig.User
		want string
	}{
		{"", user, "password"},
		{"UsePAM yes", user, "password keyboard-interactive"},
		{"UsePAM yes\nKbdInteractiveAuthentication no\nPasswordAuthentication no", user, ""},
		{"", root, ""},
		{"PermitRootLogin yes", root, "password"},
		{"AuthenticationMethods publickey", user, ""},
		{"AuthenticationMethods publickey,password", user, ""},
		{"AuthenticationMethods publickey,password password", user, "password"},
		{"HostbasedAuthentication yes\nGSSAPIAuthentication yes\nPasswordAuthentication no", user, "host-based gssapi"},
		{"Match User runa\nPasswordAuthentication no", user, ""},
	} {
		var got []string
		for _, m := range settings(t, c.text, sshdconfig.Conn{User: c.user.Name}).Methods(c.user) {
			got = append(got, string(m))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%q offers %s %v, want %s", c.text, c.user.Name, got, c.want)
		}
	}
}

func TestWhatAKeyNeedsBesideItself(t *testing.T) {
	for text, want := range map[string]struct {
		together string
		keys     bool
	}{
		"":                                {"", true},
		"AuthenticationMethods any":       {"", true},
		"AuthenticationMethods password":  {"", false},
		"AuthenticationMethods publickey": {"", true},
		"AuthenticationMethods publickey,password":           {"publickey,password", true},
		"AuthenticationMethods publickey,password publickey": {"", true},
		"AuthenticationMethods publickey,password publickey,publickey password": {
			"publickey,password publickey,publickey", true,
		},
	} {
		lists, keys := settings(t, text, sshdconfig.Conn{User: "runa"}).Beside()
		if got := strings.Join(lists, " "); got != want.together || keys != want.keys {
			t.Errorf("%q: %q %v, want %+v", text, got, keys, want)
		}
	}
}

func TestWhichKeyTypesAreTaken(t *testing.T) {
	for text, want := range map[string]string{
		"":                                      "ssh-ed25519 ssh-rsa ecdsa-sha2-nistp256",
		"PubkeyAcceptedAlgorithms -ssh-ed25519": "ssh-rsa ecdsa-sha2-nistp256",
		"PubkeyAcceptedAlgorithms -ssh-rsa":     "ssh-ed25519 ssh-rsa ecdsa-sha2-nistp256",
		"PubkeyAcceptedAlgorithms -*rsa*":       "ssh-ed25519 ecdsa-sha2-nistp256",
		"PubkeyAcceptedAlgorithms +ssh-dss":     "ssh-ed25519 ssh-rsa ecdsa-sha2-nistp256",
		"PubkeyAcceptedAlgorithms rsa-sha2-256,ecdsa-sha2-*": "ssh-rsa ecdsa-sha2-nistp256",
		"PubkeyAcceptedKeyTypes ssh-ed25519":                 "ssh-ed25519",
	} {
		s := settings(t, text, sshdconfig.Conn{User: "runa"})
		var got []string
		for _, keyType := range []string{"ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256"} {
			if s.Takes(keyType) {
				got = append(got, keyType)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q takes %v, want %s", text, got, want)
		}
	}
}

func TestWhatIsNotKnownIsConditional(t *testing.T) {
	const text = "Match Address 10.0.0.0/8\n PasswordAuthentication yes\nMatch Group ops\n PermitRootLogin no\n" +
		"Match User oona Address 10.0.0.0/8\n UsePAM no\nMatch Address *\n PubkeyAuthentication no\n"
	s := settings(t, text, sshdconfig.Conn{User: "runa"})
	var got []string
	for _, c := range s.Conditional {
		got = append(got, c.Keyword+" if "+c.Match)
	}
	want := []string{"passwordauthentication if Address 10.0.0.0/8", "permitrootlogin if Group ops"}
	if !slices.Equal(got, want) || s.On(sshdconfig.PubkeyAuthentication) {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestAServerThatWouldNotStartIsNotEvaluated(t *testing.T) {
	for what, text := range map[string]string{
		"an open quote":           "AuthorizedKeysFile \"/k/%u\n",
		"no value":                "PasswordAuthentication\n",
		"a condition and no list": "Match User\n",
		"no port":                 "Match LocalPort ssh\n",
		"no network":              "Match Address 10.0.0.1/8\n",
		"all with others":         "Match all User x\n",
	} {
		c, _ := sshdconfig.Parse(sshdconfig.File{Path: "sshd_config", Content: []byte(text)}, nil)
		if s, err := c.For(sshdconfig.Conn{User: "x"}); err == nil {
			t.Errorf("%s: %v", what, s)
		}
	}
}

// TestAFaultQuotesNothingOfWhatWasRead includes a private key by mistake.
func TestAFaultQuotesNothingOfWhatWasRead(t *testing.T) {
	const secret = "b3BlbnNzaC1rZXktdjEAAAAABG5vbmU"
	for _, line := range []string{secret, "Match " + secret, "Match User x Address " + secret + "/", "x \"" + secret} {
		c, _ := sshdconfig.Parse(sshdconfig.File{Path: "host_key", Content: []byte(line + "\n")}, nil)
		if _, err := c.For(sshdconfig.Conn{User: "x"}); err == nil || strings.Contains(err.Error(), secret) {
			t.Errorf("%q: %v", line, err)
		}
	}
}

func TestFilesThatIncludeOneAnotherEnd(t *testing.T) {
	again := sshdconfig.File{Path: "/etc/ssh/a", Content: []byte(strings.Repeat("Include /etc/ssh/a\n", 20))}
	c, missing := sshdconfig.Parse(again, map[string][]sshdconfig.File{"/etc/ssh/a": {again}})
	if s, err := c.For(sshdconfig.Conn{User: "x"}); err == nil || len(missing) > 0 {
		t.Errorf("%v %v", s, missing)
	}
}

func FuzzConfig(f *testing.F) {
	for _, c := range configs {
		f.Add([]byte(c.main), []byte(c.included["a.conf"]))
	}
	f.Add([]byte("Match Address *,!10.0.0.0/8\nAllowUsers *@*\n"), []byte("Include x\n"))
	f.Fuzz(func(t *testing.T, main, other []byte) {
		included := map[string][]sshdconfig.File{}
		file := sshdconfig.File{Path: "main", Content: main}
		c, missing := sshdconfig.Parse(file, included)
		for range 3 {
			for _, pattern := range missing {
				included[pattern] = []sshdconfig.File{{Path: "other", Content: other}}
			}
			c, missing = sshdconfig.Parse(file, included)
		}
		known := sshdconfig.Conn{User: "root", GroupsKnown: true, Address: netip.MustParseAddr("10.0.0.1")}
		for _, conn := range []sshdconfig.Conn{{}, known} {
			s, err := c.For(conn)
			if err != nil {
				continue
			}
			u := sshdconfig.User{Name: "root", Home: "/root"}
			s.Admits(u, conn)
			s.Methods(u)
			files, err := s.KeyFiles(u)
			for _, name := range files {
				if err == nil && !strings.HasPrefix(name, "/") {
					t.Errorf("the key file %q is not absolute", name)
				}
			}
			if conn.Address.IsValid() && len(s.DependsOn(sshdconfig.PasswordAuthentication)) > 0 &&
				!strings.Contains(strings.ToLower(string(main)+string(other)), "match") {
				t.Error("a condition without a Match")
			}
		}
	})
}
