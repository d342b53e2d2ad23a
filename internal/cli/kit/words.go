package kit

import (
	"fmt"

	"plumlatch/internal/core/weakness"
)

func TypeText(typ string, bits int) string { return fmt.Sprintf("%s, %d bits", typ, bits) }

func (s *Session) ShowFinding(f weakness.Finding) {
	mark := string(f.Weight)
	if f.Weight == weakness.Bad {
		mark = s.Bad(mark)
	}
	fmt.Fprintf(s.Env.Out, "%s: %s\n  %s%s\n", mark, f.Text, f.Remedy, actBy(f))
}

// actBy says when a finding will be acted on.
func actBy(f weakness.Finding) string {
	switch {
	case f.ActBy != "" && f.Weight == weakness.Bad:
		return " (overdue since " + f.ActBy + ")"
	case f.ActBy != "":
		return " (by " + f.ActBy + ")"
	case f.Weight == weakness.Remark:
		return ""
	}
	return " (at once)"
}
