package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
)

// serverCase are settings of an SSH server.
type serverCase struct{ name, settings string }

// serverCases are settings of a real SSH server, each by itself in a file that it includes.
var serverCases = []serverCase{
	{"as Debian has it", ""},
	{"only some users", "AllowUsers debian deploy"},
	{"all but one", "DenyUsers deploy"},
	{"by group", "AllowGroups debian plumlatch wardens"},
	{"another file of keys", "Match User warden\nAuthorizedKeysFile /etc/ssh/keys/%u"},
	{"another file of keys for all but the service", "Match User *,!debian\nAuthorizedKeysFile /etc/ssh/keys/%u"},
	{"no keys for one", "Match User deploy\nPubkeyAuthentication no"},
	{"an authority", "TrustedUserCAKeys /etc/ssh/ca.pub"},
	{"an authority for one", "Match User warden\nTrustedUserCAKeys /etc/ssh/ca.pub"},
	{
		"an authority, other principals",
		"TrustedUserCAKeys /etc/ssh/ca.pub\nAuthorizedPrincipalsFile /etc/ssh/principals/%u",
	},
	{"no passwords", "PasswordAuthentication no\nKbdInteractiveAuthentication no"},
	{
		"passwords for one",
		"PasswordAuthentication no\nKbdInteractiveAuthentication no\nMatch User deploy\nPasswordAuthentication yes",
	},
	{"two methods together", "Match User deploy\nAuthenticationMethods publickey,password"},
	{"a program that names keys", "AuthorizedKeysCommand /usr/local/bin/keys %u\nAuthorizedKeysCommandUser nobody"},
	{"revoked", "RevokedKeys /etc/ssh/revoked"},
	{"root by keys", "PermitRootLogin prohibit-password"},
	{"no root", "PermitRootLogin no"},
	{"by address", "Match Address 192.0.2.0/24\nPubkeyAuthentication no"},
}

// TestRealServersSettingsAreToldAsTheyAre compares, for each of many settings of Debian's own SSH server, what is told
// of each login with what OpenSSH's client finds.
func TestRealServersSettingsAreToldAsTheyAre(t *testing.T) {
	h, _ := realMachines(t, "lxc")
	_, done := h.launching(1) // what is done on it as root is done by the second key, which no setting concerns
	launched(t, done)
	sshKeygen(t, filepath.Join(h.home(), ".ssh"), "ca", "-t", "ed25519", "-N", "")
	sshKeygen(t, filepath.Join(h.home(), ".ssh"), "certified", "-t", "ed25519", "-N", "")
	does(
		t,
		"ssh-keygen",
		"-q",
		"-s",
		h.private("ca"),
		"-I",
		"id",
		"-n",
		"warden,deploy,root,debian",
		h.private("certified.pub"),
	)
	mine, ca := strings.TrimSpace(read(t, h.private("mine.pub"))), strings.TrimSpace(read(t, h.private("ca.pub")))
	h.onBy(
		t,
		"second",
		"box-01",
		`groupadd wardens; useradd -m -s /bin/bash -G wardens warden; useradd -m -s /bin/bash deploy
for u in warden deploy; do install -d -o $u -g $u -m 700 /home/$u/.ssh; echo "`+mine+`" > /home/$u/.ssh/authorized_keys
chown $u:$u /home/$u/.ssh/authorized_keys; chmod 600 /home/$u/.ssh/authorized_keys; done
echo deploy:a-made-up-password | chpasswd
install -d /etc/ssh/keys /etc/ssh/principals; echo "`+mine+`" > /etc/ssh/keys/deploy; : > /etc/ssh/keys/warden
echo "`+ca+`" > /etc/ssh/ca.pub; echo other > /etc/ssh/principals/warden; echo deploy > /etc/ssh/principals/deploy
echo "`+mine+`" > /etc/ssh/revoked
cat > /usr/local/bin/keys <<"X"
#!/bin/sh
[ "$1" = warden ] && echo "`+mine+`"
exit 0
X
chmod 755 /usr/local/bin/keys`,
	)
	ask := writeFile(t, filepath.Join(t.TempDir(), "ask"), "#!/bin/sh\necho a-made-up-password\n")
	if err := os.Chmod(ask, 0o700); err != nil {
		t.Fatal(err)
	}
	users := []string{"debian", "warden", "deploy", "root"}
	at := h.instance("box-01").Connection.Address
	real := func(user, settings string) (got entered) {
		try := func(more ...string) bool {
			// Root's line says for ten seconds that root is not to be used.
			within, cancel := context.WithTimeout(t.Context(), 5*time.Second)
			defer cancel()
			ssh := exec.CommandContext(within, "ssh", append(append([]string{
				"-F", "none", "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o", "NumberOfPasswordPrompts=1", "-o",
				"StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "ConnectTimeout=10",
			}, more...), user+"@"+at, "id", "-un")...)
			ssh.Env = append(os.Environ(), "SSH_ASKPASS="+ask, "SSH_ASKPASS_REQUIRE=force")
			out, err := ssh.Output()
			return err == nil && strings.TrimSpace(string(out)) == user
		}
		if user == "root" && !strings.Contains(settings, "oot") && settings != "" {
			return entered{certificate: strings.Contains(settings, "ca.pub") && try("-i", h.private("certified"))}
		}
		const keys = "PreferredAuthentications=publickey"
		return entered{
			key: try("-o", keys, "-i", h.private("mine")), certificate: try("-o", keys, "-i", h.private("certified")),
			// Nobody else has one.
			password: user == "deploy" && try("-o", "PreferredAuthentications=password,keyboard-interactive"),
		}
	}
	for _, c := range serverCases {
		const file = "/etc/ssh/sshd_config.d/00-case.conf"
		h.onBy(
			t,
			"second",
			"box-01",
			"printf %b \""+strings.ReplaceAll(c.settings, "\n", `\n`)+`\n" > `+file+" && sshd -t && systemctl reload ssh",
		)
		eventually(t, "the server to be back", func() bool { return answers(at + ":22") })
		h.client("sweep", "box-01")
		told := map[string]apiclient.Login{}
		for _, l := range h.access("box-01").Logins {
			told[l.Reach.OsUser] = h.login(l.Reach.OsUser + "@box-01")
		}
		for _, user := range users {
			l, known := told[user]
			if !known {
				t.Errorf("%s: %s is not told", c.name, user)
				continue
			}
			c.compare(t, user, l, real)
		}
	}
}

// entered is by what OpenSSH's client got in.
type entered struct{ key, certificate, password bool }

// compare compares what is told of a login with that.
func (c serverCase) compare(t *testing.T, user string, l apiclient.Login, real func(user, settings string) entered) {
	t.Helper()
	got, s := real(user, c.settings), l.Server
	if s == nil || s.Unread != nil {
		t.Errorf("%s: the settings for %s are not known: %+v", c.name, user, s)
		return
	}
	shut := s.Refused != nil && *s.Refused != ""
	keys := !shut && (s.KeysOff == nil || !*s.KeysOff)
	var told entered
	limited := false
	for _, o := range l.Openers {
		if o.Key.Name == "mine" && o.Status != apiclient.StatusMissing {
			limited = o.Limits != nil && *o.Limits != ""
			told.key = keys && !limited
		}
	}
	if s.NamedKeys != nil {
		told.key = told.key || keys && len(*s.NamedKeys) > 0 // the program names no other key
	}
	if keys && len(s.Authorities) > 0 {
		told.certificate = len(s.Principals) == 0
		if s.Names != nil {
			told.certificate = told.certificate || slices.Contains(*s.Names, "deploy") // which is in the certificate
		}
	}
	told.password = !shut && slices.Contains(s.Methods, "password")
	if got != told {
		t.Errorf("%s: %s is entered by %+v, and told is %+v (limited: %v): %+v", c.name, user, got, told, limited, *s)
	}
}
