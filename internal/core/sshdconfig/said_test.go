package sshdconfig

import (
	"strings"
	"testing"
)

func TestWhatSshdSaysIsComparedWithItsFiles(t *testing.T) {
	config, _ := Parse(File{Path: "/etc/ssh/sshd_config", Content: []byte(
		"PasswordAuthentication no\nAuthorizedKeysFile /etc/ssh/keys/%u .ssh/authorized_keys\n" +
			"PermitRootLogin prohibit-password\n",
	)}, nil)
	settings, err := config.For(Conn{User: "oona"})
	if err != nil {
		t.Fatal(err)
	}
	keywords := []string{PasswordAuthentication, AuthorizedKeysFile, PermitRootLogin, AllowUsers, TrustedUserCAKeys}
	const agrees = "passwordauthentication no\nauthorizedkeysfile /etc/ssh/keys/%u .ssh/authorized_keys\n" +
		"permitrootlogin without-password\ntrustedusercakeys none\nport 22\n"
	if got := settings.Against(ReadSaid(agrees), keywords...); got != "" {
		t.Errorf("the same: %s", got)
	}
	for name, change := range map[string][2]string{
		"passwords":     {"passwordauthentication no", "passwordauthentication yes"},
		"another file":  {"/etc/ssh/keys", "/etc/ssh/KEYS"},
		"no file":       {"authorizedkeysfile", "nothing"},
		"users":         {"port 22", "allowusers oona\nallowusers marek"},
		"an authority":  {"trustedusercakeys none", "trustedusercakeys /etc/ssh/ca.pub"},
		"root may more": {"permitrootlogin without-password", "permitrootlogin yes"},
	} {
		said := strings.Replace(agrees, change[0], change[1], 1)
		if got := settings.Against(ReadSaid(said), keywords...); got == "" {
			t.Errorf("%s: no difference", name)
		}
	}
}
