package httpapi

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/httpapi/contract"
)

var update = flag.Bool("update", false, "add what is new in the contract to testdata/fields")

// TestNoFieldThatProgramsMayReadIsTakenAway compares the contract with testdata/fields, the
// fields and calls that there were. New ones are added to it by -update; none is taken out
// before the next major version.
func TestNoFieldThatProgramsMayReadIsTakenAway(t *testing.T) {
	text, err := contract.GetSpecJSON()
	if err != nil {
		t.Fatal(err)
	}
	var spec struct {
		Paths      map[string]map[string]json.RawMessage
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct {
					Type string
					Ref  string `json:"$ref"`
				}
			}
		}
	}
	if err := json.Unmarshal(text, &spec); err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for path, calls := range spec.Paths {
		for method := range calls {
			there[strings.ToUpper(method)+" "+path] = true
		}
	}
	for name, s := range spec.Components.Schemas {
		for field, p := range s.Properties {
			there[fmt.Sprintf("%s.%s %s", name, field, p.Type+strings.TrimPrefix(p.Ref, "#/components/schemas/"))] = true
		}
	}
	const file = "testdata/fields"
	kept, err := os.ReadFile(file)
	if err != nil && !*update {
		t.Fatal(err)
	}
	before := map[string]bool{}
	for line := range strings.Lines(string(kept)) {
		before[strings.TrimSpace(line)] = true
		if !there[strings.TrimSpace(line)] {
			t.Errorf("the contract had %q, and programs may rely on it", strings.TrimSpace(line))
		}
	}
	fresh := 0
	for line := range there {
		if !before[line] {
			fresh++
		}
	}
	if *update {
		maps.Copy(before, there)
		delete(before, "")
		if err := os.WriteFile(file, []byte(strings.Join(slices.Sorted(maps.Keys(before)), "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if fresh > 0 {
		t.Errorf("%d calls or fields are new: go test ./internal/httpapi -run Field -update", fresh)
	}
}
