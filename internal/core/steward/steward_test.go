package steward_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"plumlatch/internal/core/steward"
)

func ExampleAccount_Rule() {
	a := steward.Account{User: "plumlatch", Changes: []string{"debian"}, Server: steward.DefaultServer}
	fmt.Print(a.Rule())
	// Output:
	// plumlatch ALL=(root) NOPASSWD: /usr/lib/openssh/sftp-server -R
	// plumlatch ALL=(debian) NOPASSWD: /usr/lib/openssh/sftp-server ""
}

func TestNothingWithAMeaningInSudoersGetsIntoTheRule(t *testing.T) {
	good := steward.Account{User: "plumlatch", Changes: []string{"debian", "ringing-db"}, Server: steward.DefaultServer}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		change func(*steward.Account)
		want   error
	}{
		"all users":         {func(a *steward.Account) { a.Changes = []string{"ALL"} }, steward.ErrUser},
		"a group":           {func(a *steward.Account) { a.User = "%wheel" }, steward.ErrUser},
		"a number":          {func(a *steward.Account) { a.Changes = []string{"#0"} }, steward.ErrUser},
		"a list":            {func(a *steward.Account) { a.Changes = []string{"debian,root"} }, steward.ErrUser},
		"a second line":     {func(a *steward.Account) { a.User = "plumlatch\nroot" }, steward.ErrUser},
		"a command":         {func(a *steward.Account) { a.User = "a;reboot" }, steward.ErrUser},
		"an option":         {func(a *steward.Account) { a.User = "-r" }, steward.ErrUser},
		"another program":   {func(a *steward.Account) { a.Server = "/bin/sh -c id, /bin/sh" }, steward.ErrServer},
		"a wildcard":        {func(a *steward.Account) { a.Server = "/usr/lib/*/sftp-server" }, steward.ErrServer},
		"a way up":          {func(a *steward.Account) { a.Server = "/usr/lib/../../tmp/s" }, steward.ErrServer},
		"no user":           {func(a *steward.Account) { a.Changes = nil }, steward.ErrChanges},
		"root itself":       {func(a *steward.Account) { a.User = "root" }, steward.ErrOwn},
		"its own files":     {func(a *steward.Account) { a.Changes = []string{"plumlatch"} }, steward.ErrOwn},
		"more than a rule":  {func(a *steward.Account) { a.Changes = make([]string, 33) }, steward.ErrChanges},
		"a file of another": {func(a *steward.Account) { a.User = "../x" }, steward.ErrUser},
	} {
		t.Run(name, func(t *testing.T) {
			a := good
			c.change(&a)
			if err := a.Check(); !errors.Is(err, c.want) {
				t.Errorf("got %v, want %v", err, c.want)
			}
		})
	}
}

func TestTheRuleIsInTheCommandsAsItIsShown(t *testing.T) {
	a := steward.Account{User: "gatekeeper", Changes: []string{"debian"}, Server: steward.DefaultServer}
	if !strings.Contains(a.Place(), "<<'END'\n"+a.Rule()+"END\n") {
		t.Errorf("another rule is placed than\n%s", a.Rule())
	}
	for _, commands := range []string{a.Place(), a.Remove()} {
		if !strings.Contains(commands, a.File()) {
			t.Errorf("%s is not in\n%s", a.File(), commands)
		}
	}
}
