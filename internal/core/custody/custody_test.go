package custody

import "testing"

func TestAPrivateKeyGoesToItsHolderOrAnAdminAndNobodyElse(t *testing.T) {
	good := Asked{Kept: true, Reason: true, Holds: true}
	with := func(change func(*Asked)) Asked {
		a := good
		change(&a)
		return a
	}
	for name, c := range map[string]struct {
		asked Asked
		want  Verdict
		noted bool
	}{
		"the holder":         {good, Granted, false},
		"an admin":           {with(func(a *Asked) { a.Holds, a.Admin = false, true }), Granted, false},
		"somebody else":      {with(func(a *Asked) { a.Holds = false }), NotTheir, true},
		"not kept":           {with(func(a *Asked) { a.Kept = false }), NotKept, true},
		"a steward key":      {with(func(a *Asked) { a.Steward, a.Admin = true, true }), Steward, true},
		"the safe is off":    {with(func(a *Asked) { a.SafeOff = true }), SafeOff, false},
		"released before":    {with(func(a *Asked) { a.Released = true }), Released, true},
		"no reason":          {with(func(a *Asked) { a.Reason = false }), NoReason, false},
		"beyond the limit":   {with(func(a *Asked) { a.Beyond = true }), Beyond, true},
		"released, no right": {with(func(a *Asked) { a.Released, a.Holds = true, false }), Released, true},
	} {
		got := Judge(c.asked)
		if got != c.want || got.Noted() != c.noted {
			t.Errorf("%s: got %q, noted %t, want %q, %t", name, got, got.Noted(), c.want, c.noted)
		}
	}
}
