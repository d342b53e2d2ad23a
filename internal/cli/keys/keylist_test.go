package keys

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/core/keypair"
)

func TestListedKeysGetDistinctGoodNames(t *testing.T) {
	made := byte(0)
	key := func(comment string) keypair.Listed {
		made++
		return keypair.Listed{
			PublicFile: keypair.PublicFile{
				Public: keypair.Public{Algorithm: "ssh-ed25519", Blob: []byte{made}, Comment: comment},
			},
		}
	}
	found, refused := nameListed(
		"office",
		[]keypair.Listed{
			key("Sunniva @ Desk"),
			key(""),
			{Refused: &keypair.Refusal{}},
			key("sunniva @ desk"),
			key(strings.Repeat("x", 80)),
		},
		true,
	)
	var names []string
	for _, k := range found {
		names = append(names, k.Name)
		if strings.Contains(strings.ToLower(k.PublicKey), "sunniva") {
			t.Errorf("the comment was not dropped from %s", k.PublicKey)
		}
	}
	if want := []string{"office-sunniva-desk", "office-2", "office-3", "office-4"}; !slices.Equal(names, want) ||
		len(refused) != 1 {
		t.Errorf("%v, %d refused; want %v", names, len(refused), want)
	}
}

func TestALongListIsReadInPartsWithItsLineNumbers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "list")
	var b strings.Builder
	const lines = 30_000 // over the limit of one list, several times
	for n := range lines {
		b.WriteString("ssh-frob AAAA" + strings.Repeat("x", 80) + "\n")
		if n == lines-2 {
			b.WriteString("# the line before the last\n")
		}
	}
	if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	listed, err := readListFile(file)
	if err != nil || len(listed) != lines || listed[0].Line != 1 || listed[lines-2].Line != lines-1 ||
		listed[lines-1].Line != lines+1 {
		t.Fatalf("%d lines, %v", len(listed), err)
	}
	if err := os.WriteFile(file, []byte(strings.Repeat("A", 2<<20)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := readListFile(file); err == nil {
		t.Error("a line of 2 MiB was read")
	}
}
