package sshio

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"plumlatch/internal/core/sshdconfig"
)

var tellTruth = flag.Bool("truth", false, "write docs/truth.md anew")

// row is one setting, or one user, of a real server: what lets in, and what is said of it.
type row struct {
	what, as string
	really   map[credential]bool
	said     map[credential]sshdconfig.Truth
	unread   string
}

var truthRows struct {
	sync.Mutex
	of []row
}

func noteTruth(r row) {
	truthRows.Lock()
	defer truthRows.Unlock()
	truthRows.of = append(truthRows.of, r)
}

const truthPage = "../../docs/truth.md"

// TestMain compares docs/truth.md with what was tried, where all of it was.
func TestMain(m *testing.M) {
	flag.Parse()
	code := m.Run()
	if want := len(truths) + 2*len(persons()); code == 0 && len(truthRows.of) >= want-shutTruths() {
		page := truthTold()
		if *tellTruth {
			if err := os.WriteFile(truthPage, []byte(page), 0o644); err != nil {
				fmt.Fprintln(os.Stderr, err)
				code = 1
			}
		} else if was, err := os.ReadFile(truthPage); err != nil || string(was) != page {
			fmt.Fprintln(os.Stderr, "docs/truth.md is not what was tried: go test ./internal/sshio -run NothingFalse -truth")
			code = 1
		}
	}
	os.Exit(code)
}

// shutTruths is how many settings let nobody read.
func shutTruths() (n int) {
	for _, c := range truths {
		if c.shut {
			n++
		}
	}
	return n
}

// truthTold is docs/truth.md.
func truthTold() string {
	rows := slices.Clone(truthRows.of)
	slices.SortFunc(rows, func(a, b row) int { return strings.Compare(a.what+"\x00"+a.as, b.what+"\x00"+b.as) })
	var out strings.Builder
	fmt.Fprintf(&out, `# What is said of a real SSH server, and what is so

Each row is a login at OpenSSH's sshd with settings, or as a user, of its own. Each credential was tried by
OpenSSH's ssh, and what lets in is compared with what the product says after reading the server. A test writes this
page anew (internal/sshio, TestNothingFalse…), and fails where a credential lets in of which nothing is said, or one
is said to let in that does not.

*in* lets in, *no* does not. In brackets is what is said where it is not the same word: *maybe* is said with the
condition (a principal, a limit of the line, what is not readable), and *unread* with the reason.

| what | read | %s |
| --- | --- | %s |
`, strings.Join(headsOf(), " | "), strings.TrimSuffix(strings.Repeat("--- | ", len(credentials)), " | "))
	for _, r := range rows {
		cells := make([]string, len(credentials))
		for n, c := range credentials {
			cells[n] = cellOf(r, c)
		}
		fmt.Fprintf(&out, "| %s | %s | %s |\n", r.what, r.as, strings.Join(cells, " | "))
	}
	fmt.Fprintf(&out, "\n%d rows.\n", len(rows))
	return out.String()
}

func headsOf() []string {
	out := make([]string, len(credentials))
	for n, c := range credentials {
		out[n] = string(c)
	}
	return out
}

func cellOf(r row, c credential) string {
	is, tried := r.really[c]
	if !tried {
		return ""
	}
	really := map[bool]string{true: "in", false: "no"}[is]
	said := map[sshdconfig.Truth]string{sshdconfig.Yes: "in", sshdconfig.No: "no", sshdconfig.Maybe: "maybe"}[r.said[c]]
	if r.unread != "" {
		said = "unread"
	}
	if said == really {
		return really
	}
	return really + " (" + said + ")"
}
