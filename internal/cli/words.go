package cli

import (
	"fmt"
	"plumlatch/internal/core/keypair"
)

func typeText(typ string, bits int) string { return fmt.Sprintf("%s, %d bits", typ, bits) }

func (s *session) showFinding(f keypair.Finding) {
	mark := string(f.Weight)
	if f.Weight == keypair.Bad {
		mark = s.bad(mark)
	}
	fmt.Fprintf(s.env.Out, "%s: %s\n  %s%s\n", mark, f.Text, f.Remedy, actBy(f))
}

// actBy says when a finding is to be acted on.
func actBy(f keypair.Finding) string {
	switch {
	case f.ActBy != "" && f.Weight == keypair.Bad:
		return " (overdue since " + f.ActBy + ")"
	case f.ActBy != "":
		return " (by " + f.ActBy + ")"
	case f.Weight == keypair.Remark:
		return ""
	}
	return " (at once)"
}
