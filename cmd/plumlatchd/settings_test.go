package main

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/settings.md again")

// TestThePageOfSettingsIsThatOfTheCode compares docs/settings.md with the flags.
func TestThePageOfSettingsIsThatOfTheCode(t *testing.T) {
	var o settings
	f := flag.NewFlagSet("plumlatchd", flag.ContinueOnError)
	t.Setenv("PLUMLATCH_DATABASE", "")
	t.Setenv("PLUMLATCH_OWNER_DATABASE", "")
	o.flags(f)
	var b strings.Builder
	b.WriteString(
		"# The service's settings\n\nThis page is made from the code: `go test ./cmd/plumlatchd -update`. How to run it " +
			"for real is in\n[operations.md](operations.md).\n\n| setting | |\n| --- | --- |\n",
	)
	f.VisitAll(func(f *flag.Flag) {
		value, usage := flag.UnquoteUsage(f)
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" {
			usage += fmt.Sprintf("; `%s` unless given", f.DefValue)
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", strings.TrimSpace("-"+f.Name+" "+value), usage)
	})
	const file = "../../docs/settings.md"
	if *update {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if text, err := os.ReadFile(file); err != nil || string(text) != b.String() {
		t.Errorf("docs/settings.md is not what the flags say (%v): go test ./cmd/plumlatchd -update", err)
	}
}
