package rules

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/service/rotate"
)

func TestAStandingRuleIsKeptInAFormOfItsOwn(t *testing.T) {
	t.Parallel()
	want := rotate.RotationWanted{
		Selection: rotation.Selection{
			Keys:   []string{"a"},
			Holder: "ines",
			Type:   "rsa",
			Older:  90 * 24 * time.Hour,
			Weaker: "rsa3072",
			Lost:   true,
			Shared: true,
		},
		Instances: []string{
			"door",
		}, LabelName: "team", LabelText: "tides", Region: "north", Each: rotation.EachInstance, FromHere: true, Wait: true,
		Names: "{key}-{year}",
	}
	text, err := writeRule(want)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := readRule(text); err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%+v %v\n%s", got, err, text)
	}
	// Every field is kept: one that is added to what a rule selects has to be added here as well.
	var kept map[string]any
	if err := json.Unmarshal(text, &kept); err != nil || len(kept) != reflect.TypeFor[ruleText]().NumField() {
		t.Errorf("%d fields are kept: %s", len(kept), text)
	}
	wanted := reflect.TypeFor[rotate.RotationWanted]().NumField()
	if n := reflect.TypeFor[rotation.Selection]().NumField() + wanted; n != 7+13 {
		t.Errorf("what is selected by has %d fields now; have the rules keep them", n)
	}
	// One that was kept before there was a version.
	earlier := `{"Keys":["a"],"Holder":"ines","Type":"rsa",` +
		`"Older":7776000000000000,"Weaker":"rsa3072","Lost":true,"Shared":true,"Instances":["door"],` +
		`"LabelName":"team","LabelText":"tides","Region":"north","Each":"instance",` +
		`"To":"","FromHere":true,"Urgent":false,"Wait":true}`
	want.Names = "" // which no rule had then
	if got, err := readRule(json.RawMessage(earlier)); err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%+v %v", got, err)
	}
	// A filter that is not known makes no wider rule.
	for _, bent := range []string{
		strings.Replace(string(text), "holder", "owner", 1),
		strings.Replace(earlier, "Holder", "Owner", 1),
		`{"version":2}`,
		`{"version":1,"keys":"a"}`,
		`[]`,
	} {
		if got, err := readRule(json.RawMessage(bent)); err == nil {
			t.Errorf("%s is read as %+v", bent, got)
		}
	}
}
