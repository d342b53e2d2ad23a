// Package steward says what an OS user of its own, the service account, may do on a machine for the service: the
// rule of sudoers(5) by which it reads all files as root and changes files as other users, and the commands with
// which root makes the account and removes it again. It runs nothing.
//
// The rule allows OpenSSH's sftp-server(8) alone: with -R, which writes nothing, as root, and without any argument
// as each user whose files may be changed.
package steward

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Account is the service account of a machine.
type Account struct {
	// User is its OS user.
	User string
	// Changes are the OS users whose files it may change, at least one.
	Changes []string
	// Server is the path of the machine's sftp-server.
	Server string
}

// DefaultUser is the account's user unless another is named.
const DefaultUser = "plumlatch"

// DefaultServer is where Debian and its kin have sftp-server.
const DefaultServer = "/usr/lib/openssh/sftp-server"

// Comment is the comment of an account that was made for the service (GECOS, passwd(5)). Only such a one is removed.
const Comment = "Plum Latch service account"

// MostChanges is how many users the rule names at most.
const MostChanges = 32

var (
	// ErrUser is wrapped where a user's name cannot be in a rule: sudoers(5) gives other characters a meaning.
	ErrUser = errors.New("it is not a user's name of a-z, 0-9, _ and -, of 32 characters at most")
	// ErrServer is wrapped where the server is not a plain absolute path.
	ErrServer = errors.New("it is not a plain path")
	// ErrChanges is returned where no user is named whose files may be changed, or too many are.
	ErrChanges = fmt.Errorf("name 1 to %d users whose files it may change", MostChanges)
	// ErrOwn is returned where the account would change its own files, or is root.
	ErrOwn = errors.New("the service account is a user of its own: not root, and none of those whose files it changes")
)

var (
	plainUser   = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)
	plainServer = regexp.MustCompile(`^(/[A-Za-z0-9_-][A-Za-z0-9_.-]*)+$`)
)

// Check returns ErrUser, ErrServer, ErrChanges or ErrOwn, wrapped with what is wrong.
func (a Account) Check() error {
	if !plainUser.MatchString(a.User) {
		return fmt.Errorf("the account %q: %w", a.User, ErrUser)
	}
	if len(a.Changes) == 0 || len(a.Changes) > MostChanges {
		return ErrChanges
	}
	for _, u := range a.Changes {
		if !plainUser.MatchString(u) {
			return fmt.Errorf("the user %q: %w", u, ErrUser)
		}
	}
	if a.User == "root" || slices.Contains(a.Changes, a.User) {
		return ErrOwn
	}
	if !plainServer.MatchString(a.Server) {
		return fmt.Errorf("the server %q: %w", a.Server, ErrServer)
	}
	return nil
}

// File is the path of the file that the rule is in.
func (a Account) File() string { return "/etc/sudoers.d/plum-latch-" + a.User }

// Rule is the content of the file, in the format of sudoers(5).
func (a Account) Rule() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s ALL=(root) NOPASSWD: %s -R\n", a.User, a.Server)
	for _, u := range a.Changes {
		fmt.Fprintf(&b, "%s ALL=(%s) NOPASSWD: %s \"\"\n", a.User, u, a.Server)
	}
	return b.String()
}

// Means says what the rule allows.
func (a Account) Means() string {
	return fmt.Sprintf(
		"By it %s reads every file of the machine, and changes files with the rights of %s; "+
			"in others' names it runs nothing else.",
		a.User, strings.Join(a.Changes, ", "),
	)
}

// Place are the commands by which root makes the account, checks the rule with visudo(8) and puts it in place. What
// fails leaves nothing behind. They may be repeated.
func (a Account) Place() string {
	return fmt.Sprintf(`set -eu
umask 022
rule=%[1]s
made=
moved=
done=
sound=
end() {
	rm -f -- "$rule.new"
	[ -n "$done" ] && return
	[ -z "$moved" ] || rm -f -- "$rule"
	[ -z "$made" ] || userdel --remove %[2]s 2>/dev/null || true
}
fail() { echo "$1" >&2; exit 1; }
trap end EXIT
command -v visudo >/dev/null || fail "there is no visudo on this machine; install sudo"
if visudo -c >/dev/null 2>&1; then sound=yes; fi
command -v useradd >/dev/null || fail "there is no useradd on this machine"
[ -x %[3]s ] || fail "there is no %[3]s on this machine"
for user in %[4]s; do getent passwd "$user" >/dev/null || fail "there is no user $user on this machine"; done
case $(getent passwd %[2]s || true) in
"") useradd --system --user-group --create-home --shell /bin/sh --password '*' --comment '%[5]s' %[2]s; made=yes ;;
*:'%[5]s':*) ;;
*) done=yes; fail "the user %[2]s was not made for this; name another with -account" ;;
esac
cat >"$rule.new" <<'END'
%[6]sEND
chmod 0440 "$rule.new"
visudo -cf "$rule.new" >/dev/null || fail "visudo refuses the rule"
mv -- "$rule.new" "$rule"
moved=yes
[ -z "$sound" ] || visudo -c >/dev/null || fail "visudo finds a fault in the rules of this machine"
sudo -n -l -U %[2]s -- %[3]s -R >/dev/null || fail "sudo does not read $rule"
done=yes
`, a.File(), a.User, a.Server, strings.Join(a.Changes, " "), Comment, a.Rule())
}

// Remove are the commands by which root removes the rule, and the account with its home folder and all that it runs,
// where it was made for the service. They may be repeated.
func (a Account) Remove() string {
	return fmt.Sprintf(`set -eu
rm -f -- %[1]s %[1]s.new
case $(getent passwd %[2]s || true) in *:'%[3]s':*) ;; *) exit 0 ;; esac
tries=0
until userdel --remove %[2]s 2>/dev/null; do
	getent passwd %[2]s >/dev/null || break
	tries=$((tries + 1))
	[ $tries -lt 50 ] || { echo "userdel does not remove the user %[2]s" >&2; exit 1; }
	pkill -KILL -u %[2]s || true
	sleep 0.1
done
`, a.File(), a.User, Comment)
}
