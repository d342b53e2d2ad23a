package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

func TestCommandsThatTakeMoreThanOneThingSayWhatIsMissing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "a")
	h.must("key", "new", "b")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "a", "-key", "b")
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"key loss", 2, "-holder NAME"},
		{"key loss nothing", 4, `"nothing"`},
		{"key loss a nothing", 4, `"nothing"`},
		{"key loss -holder nobody", 4, `"nobody"`},
		{"key mark-lost a", 2, "-reason TEXT"},
		{"key mark-lost -reason x", 2, "-holder NAME"},
		{"rotate report", 4, "rotate list"},
		{"rotate watch", 4, "rotate list"},
		{"restore report", 4, "restore list"},
		{"rotate undo", 2, "rotate undo NAME|ID"},
		{"session end", 2, "-of NAME"},
		{"session end 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10 -of ines", 2, "-of NAME"},
		{"prove nothing", 4, `"nothing"`},
	} {
		if r := h.client(strings.Fields(c.args)...); r.status != c.status || !strings.Contains(r.err, c.says) {
			t.Errorf("%s: %d %s%s", c.args, r.status, r.out, r.err)
		}
	}
	// Either alone leaves a way in; both together do not.
	if out := h.must("key", "loss", "a"); !strings.Contains(out, "WITHOUT a\n") || strings.Contains(out, "shut") {
		t.Errorf("%s", out)
	}
	if out := h.must("key", "loss", "b", "-holder", "ines"); !strings.Contains(out, "WITHOUT a, b") ||
		!strings.Contains(out, "shut") {
		t.Errorf("%s", out)
	}
	if out := h.must("prove", "door"); !strings.Contains(out, "entry is proved") {
		t.Errorf("%s", out)
	}
	h.must(
		"operator", "add", "runa", "-role", "viewer", "-password-file",
		writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	runa := h.in(t)
	runa.token = h.signIn("runa", password)
	if r := runa.client("session", "end", "-of", "ines"); r.status == 0 {
		t.Errorf("a viewer ended the sessions of an admin: %s", r.out)
	}
	if r := runa.client("key", "mark-lost", "-holder", "ines", "-reason", "x", "-yes"); r.status != 5 {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
	for _, key := range []string{"a", "b"} {
		if out := h.must("key", "show", key, "-json"); !strings.Contains(out, `"state": "active"`) {
			t.Errorf("somebody else marked %s as lost: %s", key, out)
		}
	}
	if out := h.must("session", "end", "-of", "runa"); !strings.Contains(out, "1 token revoked") {
		t.Errorf("%s", out)
	}
	if r := runa.client("whoami"); r.status == 0 {
		t.Errorf("a token that was ended: %s", r.out)
	}
	h.must("key", "mark-lost", "-holder", "ines", "-reason", "laptop stolen", "-yes")
	h.refused("no-such-key", "key", "mark-lost", "-holder", "ines", "-reason", "again", "-yes")
}
