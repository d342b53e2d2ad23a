package rotation

import "testing"

func TestNewKeysAreMadeHereOnlyForTheMakersOwn(t *testing.T) {
	for _, c := range []struct {
		allOwn, safe bool
		want         Source
	}{{true, true, Here}, {true, false, Here}, {false, true, Service}, {false, false, Bring}} {
		if got := DefaultSource(c.allOwn, c.safe); got != c.want {
			t.Errorf("all own %v, safe %v: %s, want %s", c.allOwn, c.safe, got, c.want)
		}
	}
	for _, c := range []struct {
		from Source
		own  bool
		want Pending
	}{
		{Here, true, ""}, {Here, false, TakeItOver}, {Service, true, TakeOut}, {Service, false, TakeOut},
		{Bring, true, BringIt}, {NoNew, false, ""},
	} {
		if got := PendingFor(c.from, c.own); got != c.want {
			t.Errorf("from %s, own %v: %q, want %q", c.from, c.own, got, c.want)
		}
	}
}
