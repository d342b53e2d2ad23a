package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
)

// TestGeneratedCodeFollowsTheContracts generates everything again and compares.
func TestGeneratedCodeFollowsTheContracts(t *testing.T) {
	for config, spec := range map[string]string{
		"internal/httpapi/contract/generate.yaml": "api/openapi.yaml",
		"internal/apiclient/generate.yaml":        "api/openapi.yaml",
		"internal/cloud/adapter/generate.yaml":    "api/adapter.yaml",
		"internal/adapter/generate.yaml":          "api/adapter.yaml",
	} {
		data, err := os.ReadFile("../" + config)
		if err != nil {
			t.Fatal(err)
		}
		line := regexp.MustCompile(`(?m)^output: (.+)$`)
		output := line.FindSubmatch(data)
		if output == nil {
			t.Fatalf("%s names no output", config)
		}
		fresh := filepath.Join(t.TempDir(), "fresh.go")
		elsewhere := filepath.Join(t.TempDir(), "generate.yaml")
		if err := os.WriteFile(elsewhere, line.ReplaceAll(data, []byte("output: "+fresh)), 0o644); err != nil {
			t.Fatal(err)
		}
		compareGenerated(t, string(output[1]), fresh, "go", "tool", "oapi-codegen", "-config", elsewhere, spec)
	}
	fresh := filepath.Join(t.TempDir(), "contract.ts")
	compareGenerated(
		t, "console/src/api/contract.gen.ts", fresh, "console/node_modules/.bin/openapi-typescript",
		"api/openapi.yaml", "-o", fresh,
	)
}

func compareGenerated(t *testing.T, kept, fresh string, command ...string) {
	t.Helper()
	if filepath.Base(command[0]) != command[0] {
		program, err := filepath.Abs(filepath.Join("..", command[0]))
		if err != nil {
			t.Fatal(err)
		}
		command[0] = program
	}
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = ".."
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %v: %s", command, err, out)
	}
	want, err := os.ReadFile(fresh)
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../" + kept)
	if err != nil {
		t.Fatal(err)
	}
	if string(got) != string(want) {
		t.Errorf("%s does not follow its contract: run make generate", kept)
	}
}
