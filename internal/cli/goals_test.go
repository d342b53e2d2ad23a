package cli

import (
	"bytes"
	"os"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/cli/kit"
)

// wishes are what people type after help, each with the commands of which one must be among the first two; none
// where nothing here does it.
var wishes = map[string]string{
	"lost key":                             "restore routes,key mark-lost",
	"add ssh key":                          "key import,key new,grant add",
	"who has access":                       "openers",
	"permission denied":                    "why",
	"host key failed":                      "why",
	"coworker until friday":                "grant add",
	"remove access of an employee":         "operator leave,grant withdraw",
	"rotate all old keys":                  "rotate plan,rotate start",
	"fingerprint":                          "trace,key inspect",
	"upload":                               "key import",
	"generate":                             "key new",
	"unknown keys":                         "settle,sweep,trace",
	"audit log":                            "daybook list",
	"ssh config":                           "ssh-config",
	"revoke":                               "grant withdraw,token revoke",
	"ppk":                                  "key convert",
	"laptop stolen":                        "key mark-lost,restore routes",
	"scheduled rotation":                   "rule add",
	"api token":                            "token new",
	"delete a server":                      "instance delete",
	"undo":                                 "restore undo,rotate undo",
	"two-factor":                           "factor add",
	"adopt":                                "instance adopt",
	"windows password":                     "instance password",
	"temporary access":                     "grant add",
	"user left the company":                "operator leave",
	"list servers":                         "instance list",
	"change keys":                          "rotate plan,rotate start,key change",
	"expire":                               "grant add,token new",
	"unauthorized key":                     "settle",
	"rename a key":                         "key change",
	"give a colleague access for two days": "grant add",
	"one key for nine machines":            "rotate plan,openers,opens",
	"dry run":                              "rotate plan,restore rehearse",
	"download all data":                    "daybook export",
	"backup":                               "",
	"sudo":                                 "",
	"bastion":                              "",
	"I lost my private key and can no longer log in": "restore routes",
	"locked out of a server":                         "restore routes",
	"which servers does this key open":               "opens",
	"somebody leaves the team for good":              "operator leave",
	"end sharing of one key":                         "rotate plan,rotate start",
	"send alerts to a webhook":                       "subscriber add",
	"was the log tampered with":                      "daybook check",
	"new virtual machine":                            "instance launch",
	"start a stopped machine":                        "instance start",
	"power off a vm":                                 "instance stop",
	"copy files to a server":                         "connect",
	"run a command on a machine":                     "connect",
	"whose key is this":                              "trace",
	"which key pairs do I hold":                      "key list,prove",
	"prove that I still have my key":                 "prove",
	"check authorized_keys of every machine":         "sweep",
	"change my password":                             "password",
	"sign out":                                       "sign-out",
	"make somebody an admin":                         "operator change",
	"reset the second factor of a person":            "operator change,factor remove",
	"give a key to another team":                     "key hand-over,key change",
	"convert a key to pem":                           "key convert",
	"derive the public key":                          "key public",
	"is this key weak":                               "key inspect",
	"try a way back in without doing it":             "restore rehearse",
	"stop a rotation for now":                        "rotate pause",
	"what did authorized_keys look like before":      "login history",
	"tab completion":                                 "completion",
	"how safe are my logins":                         "reach",
	"take the private key out of the safe":           "key private",
	"get syslog messages":                            "subscriber add",
	"coffee":                                         "",
	"load balancer":                                  "",
	"billing":                                        "",
}

func TestHelpFindsTheCommandForAPlainGoal(t *testing.T) {
	found, asked := 0, 0
	for wish, wanted := range wishes {
		got := names(suggested(strings.Fields(wish)))
		first := got[:min(2, len(got))]
		ok := len(got) == 0
		if wanted != "" {
			ok = slices.ContainsFunc(strings.Split(wanted, ","), func(c string) bool { return slices.Contains(first, c) })
		}
		if asked++; ok {
			found++
			continue
		}
		t.Logf("%q leads to %v, want %s", wish, got, wanted)
		if wanted == "" {
			t.Errorf("%q is answered with something wrong", wish)
		}
	}
	if asked < 60 || found < asked*55/60 {
		t.Errorf("%d of %d wishes lead to the command", found, asked)
	}
	for name := range goals {
		if c, rest, err := find(strings.Fields(name)); err != nil || c.Name != name || len(rest) > 0 {
			t.Errorf("the goals of %q are of no command", name)
		}
	}
}

func names(of []kit.Command) []string {
	var out []string
	for _, c := range of {
		out = append(out, c.Name)
	}
	return out
}

func TestHelpSaysWhereNothingFits(t *testing.T) {
	for wish, status := range map[string]int{"locked " +
		"out": kit.ExitDone, "bastion": kit.ExitMissing, "xyzzy": kit.ExitMissing} {
		var out bytes.Buffer
		words := append([]string{"help"}, strings.Fields(wish)...)
		if got := Run(t.Context(), words, kit.Env{Out: &out, Err: &out, Getenv: os.Getenv}); got != status {
			t.Errorf("help %s: status %d, want %d\n%s", wish, got, status, &out)
		}
	}
}
