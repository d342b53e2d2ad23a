package subscribers

import "testing"

func TestEachEntryIsOfOneKind(t *testing.T) {
	for _, c := range []struct {
		action, outcome string
		want            Kind
	}{
		{"login.shut", "done", LoginShut},
		{"login.shut", "failed", LoginShut},
		{"login.stranger", "found", Stranger},
		{"restore.left-open", "failed", LeftOpen},
		{"key.release", "done", KeyReleased},
		{"grant.end", "refused", Overdue},
		{"instance.launched", "failed", RunFailed},
		{"instance.launched", "done", ""},
		{"key.make", "done", ""},
	} {
		if got := KindOf(c.action, c.outcome); got != c.want {
			t.Errorf("%s, %s: got %q, want %q", c.action, c.outcome, got, c.want)
		}
	}
}
