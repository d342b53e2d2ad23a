package reading

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/core/sshdconfig"
)

func TestUsersAreReadAsPasswdHasThem(t *testing.T) {
	long := strings.Repeat("x", 5000)
	got, skipped := Accounts(
		[]byte("root:x:0:0:root:/root:/bin/bash\r\n# a comment\n\ndeploy:x:1001:1001::/srv/deploy:\n" +
			"deploy:x:0:0::/root:/bin/sh\n+@wheel::::::\nbroken:x:one:1::/:/bin/sh\nshort:x:1\n" +
			"sync:x:4:65534:sync:/bin:/bin/sync\nwww-data:x:33:33::/var/www:/usr/sbin/nologin\n" +
			"evil\x1b[2J:x:5:5::/:/bin/sh\nhome:x:6:6::/a\x1bb:/bin/sh\n" + "big:x:7:7::/" + long + ":/bin/sh\n"),
	)
	want := []Account{
		{"root", "/root", "/bin/bash", 0, 0}, {"deploy", "/srv/deploy", "/bin/sh", 1001, 1001},
		{"sync", "/bin", "/bin/sync", 4, 65534}, {"www-data", "/var/www", "/usr/sbin/nologin", 33, 33},
	}
	if !slices.Equal(got, want) || skipped != 5 {
		t.Errorf("%d skipped, %+v", skipped, got)
	}
	var shells []string
	for _, a := range got {
		if a.HasShell() {
			shells = append(shells, a.Name)
		}
	}
	if !slices.Equal(shells, []string{"root", "deploy"}) {
		t.Errorf("with a shell: %v", shells)
	}
	var many strings.Builder
	for n := range MostAccounts + 7 {
		fmt.Fprintf(&many, "u%d:x:%d:%d::/home/u%d:/bin/sh\n", n, n, n, n)
	}
	if got, skipped := Accounts([]byte(many.String())); len(got) != MostAccounts || skipped != 7 {
		t.Errorf("of too many: %d, %d skipped", len(got), skipped)
	}
}

func TestGroupsAreThePrimaryOneAndThoseThatListTheUser(t *testing.T) {
	accounts := []Account{{Name: "ines", GID: 100}, {Name: "oona", GID: 101}, {Name: "lone", GID: 999}}
	got := GroupsOf([]byte("users:x:100:\nops:x:200:ines,oona\nops:x:201:lone\nbad line\noona:x:101:oona\n"), accounts)
	for user, want := range map[string]string{"ines": "users ops", "oona": "ops oona", "lone": "ops"} {
		slices.Sort(got[user])
		if all := strings.Fields(want); !slices.Equal(got[user], slices.Sorted(slices.Values(all))) {
			t.Errorf("%s is in %v, want %v", user, got[user], all)
		}
	}
	if got := ForeignSources([]byte("passwd: files systemd # own\ngroup: files [SUCCESS=merge] sss\n"), "group"); len(
		got,
	) != 1 ||
		got[0] != "sss" {
		t.Errorf("foreign sources: %v", got)
	}
}

func TestAPasswordIsToldOfButNotKept(t *testing.T) {
	got := PasswordsIn([]byte("root:*:1::::::\nines:$6$salt$hash:1::::::\noona:!$6$salt$hash:1::::::\nnew:!:1::::::\n" +
		"open::1::::::\nold:abJnggxhB/yWI:1::::::\nines::1::::::\nodd\n"))
	for user, want := range map[string]Password{
		"root": PasswordNone, "ines": PasswordSet, "oona": PasswordLocked, "new": PasswordLocked, "open": PasswordEmpty,
		"old": PasswordSet, "odd": PasswordUnknown,
	} {
		if got[user] != want {
			t.Errorf("%s: %q, want %q", user, got[user], want)
		}
	}
	server := Server{Methods: []sshdconfig.Method{sshdconfig.Password, sshdconfig.KeyboardInteractive}}
	account := Account{Name: "oona", Shell: "/bin/sh"}
	for _, c := range []struct {
		p       Password
		pam     bool
		methods int
		refused bool
	}{
		{PasswordSet, false, 2, false}, {PasswordLocked, false, 0, true}, {PasswordLocked, true, 1, false},
		{PasswordNone, true, 1, false}, {PasswordUnknown, true, 2, false},
	} {
		got := server.ForAccount(account, c.p, c.pam)
		if len(got.Methods) != c.methods || (got.Refused != "") != c.refused || got.LetsIn(account) != (c.methods > 0) {
			t.Errorf("%q, PAM %v: %+v", c.p, c.pam, got)
		}
	}
	if len(server.Methods) != 2 {
		t.Error("what was given is changed")
	}
}

func TestWhatIsUnreadIsCountedBeyondWhatIsNamed(t *testing.T) {
	var m Machine
	for n := range mostUnread + 3 {
		m.AddUnread(fmt.Sprintf("u%d\x1b[2J", n), "no leave")
	}
	if len(m.Unread) != mostUnread || m.UnreadCount() != mostUnread+3 || strings.Contains(m.Unread[0].User, "\x1b") {
		t.Errorf("%d named of %d: %q", len(m.Unread), m.UnreadCount(), m.Unread[0].User)
	}
}

func FuzzTheListsOfAMachineAreReadWithinBounds(f *testing.F) {
	f.Add([]byte("root:x:0:0::/root:/bin/sh\nops:x:4:root\n"))
	f.Add([]byte("passwd: files sss\nroot:!:1::::::\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		accounts, _ := Accounts(data)
		for _, a := range accounts {
			if strings.ContainsAny(a.Name+a.Home+a.Shell, "\x00\x1b\n") || a.Shell == "" || a.Home == "" {
				t.Fatalf("%+v", a)
			}
		}
		GroupsOf(data, accounts)
		PasswordsIn(data)
		ForeignSources(data, "passwd")
	})
}
