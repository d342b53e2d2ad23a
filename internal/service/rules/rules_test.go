package rules_test

import (
	"testing"
	"time"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/service/rules"
	"plumlatch/internal/service/servicetest"
)

func TestARuleBeginsOnTheDayAndOnceADayAtMost(t *testing.T) {
	r := servicetest.NewRig(t)
	r.Launch("door", "old")
	_, err := r.Rules.AddRotationRule(t.Context(), r.Ines, journal.IdempotencyKey{}, rules.RuleWanted{
		Name:   "monthly",
		Wanted: rotate.RotationWanted{Selection: rotation.Selection{Older: 20 * 24 * time.Hour}},
		Make:   rotate.MakeService,
	})
	if err != nil {
		t.Fatal(err)
	}
	begun := func() int {
		t.Helper()
		if err := r.Rules.CarryRules(t.Context()); err != nil {
			t.Fatal(err)
		}
		all, err := r.Rotate.Rotations(t.Context(), "", record.Page{Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return len(all.Items)
	}
	due := func() time.Duration {
		t.Helper()
		list, err := r.Rules.DueRotations(t.Context(), 30)
		if err != nil || len(list) != 1 || list[0].Login != "debian@door" {
			t.Fatalf("%v %+v", err, list)
		}
		return list[0].At.Sub(r.Now())
	}
	if n, left := begun(), due(); n != 0 || left < 19*24*time.Hour || left > 20*24*time.Hour {
		t.Errorf("%d begun; due in %s", n, left)
	}
	r.Jump(20*24*time.Hour - time.Hour)
	if n, left := begun(), due(); n != 0 || left > time.Hour {
		t.Errorf("%d begun; due in %s", n, left)
	}
	r.Jump(2 * time.Hour)
	if n := begun(); n != 1 {
		t.Fatalf("on the day %d began", n)
	}
	all, err := r.Rotate.Rotations(t.Context(), "", record.Page{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	r.Until("the end", r.Is(all.Items[0], rotation.ItemDone))
	// What comes due again within the day waits for it to be over.
	r.Launch("gate", "old-2")
	r.Jump(-time.Hour)
	rules, err := r.Rules.RotationRules(t.Context())
	if err != nil || rules[0].NextAt == nil || rules[0].Note != "" {
		t.Fatalf("%v %+v", err, rules)
	}
	if n := begun(); n != 1 {
		t.Errorf("a second began on the same day")
	}
	r.Jump(21 * 24 * time.Hour)
	if n := begun(); n != 2 {
		t.Errorf("%d began in all", n)
	}
}
