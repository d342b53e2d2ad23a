package charter

import (
	"math/rand/v2"
	"testing"
	"time"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
)

// TestWhatIsWrittenIsSoAlready writes worlds at random and compares the charter with the same world.
func TestWhatIsWrittenIsSoAlready(t *testing.T) {
	lines := []string{oneKey, twoKey}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 2))
		w := worldOf(2, 4)
		for n := range w.Keys {
			w.Keys[n].Line, w.Keys[n].Purpose, w.Keys[n].Labels = lines[n], "no: 'quotes' # or | signs", map[string]string{
				"a": "yes",
			}
		}
		for k := range int32(2) {
			for l := range int32(4) {
				if r.IntN(2) == 0 {
					w.grant(k, l, []string{"", "c", "other"}[r.IntN(3)])
					g := &w.Grants[len(w.Grants)-1]
					if g.Why = []string{"", "on: call", "- she said"}[r.IntN(3)]; r.IntN(3) == 0 {
						g.Until = now.Add(time.Duration(1+r.IntN(3)) * time.Hour)
					}
				}
			}
		}
		text := Write("c", w, "", "", true)
		c, flaws := Read([]File{{"c.yaml", []byte(text)}})
		if len(flaws) > 0 {
			t.Fatalf("seed %d: %v\n%s", seed, flaws, text)
		}
		for _, k := range c.Keys { // the records have the fingerprints of the lines
			w.Keys[w.keyPlace(k.Name)].SHA256 = keypair.FormatSHA256(k.Public.SHA256())
		}
		got := Compare(c, w)
		for _, change := range got.Changes {
			if change.Kind != Own {
				t.Fatalf("seed %d: %s\n%s", seed, kinds(got), text)
			}
		}
		if len(got.Flaws) > 0 {
			t.Fatalf("seed %d: %v\n%s", seed, got.Flaws, text)
		}
	}
}

func TestKeysOutOfUseAndOtherLabelsAreNotWritten(t *testing.T) {
	w := worldOf(2, 2)
	w.grant(0, 0, "")
	w.grant(1, 0, "")
	w.grant(0, 1, "")
	w.Keys[0].Line, w.Keys[1].Line, w.Keys[1].State = oneKey, twoKey, custody.Lost
	c, flaws := Read([]File{{"c.yaml", []byte(Write("c", w, "site", "s0", true))}})
	if len(flaws) > 0 || len(c.Keys) != 1 || len(c.Access) != 1 || len(c.Access[0].Logins) != 1 {
		t.Errorf("%+v %+v", c, flaws)
	}
}
