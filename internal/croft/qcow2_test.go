package croft

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestADiskThatNamesAnotherFileIsRefused(t *testing.T) {
	whole := qcow2Head{Magic: [4]byte{'Q', 'F', 'I', 0xfb}, Version: 3, Size: 1 << 20}
	path := filepath.Join(t.TempDir(), "disk.qcow2")
	for name, c := range map[string]struct {
		change func(*qcow2Head)
		fault  string
	}{
		"whole":               {func(*qcow2Head) {}, ""},
		"of version 2":        {func(h *qcow2Head) { h.Version, h.Incompatible = 2, externalData }, ""},
		"over another":        {func(h *qcow2Head) { h.BackingOffset, h.BackingSize = 112, 11 }, "another file"},
		"with its data apart": {func(h *qcow2Head) { h.Incompatible = externalData }, "another file"},
		"encrypted":           {func(h *qcow2Head) { h.CryptMethod = 2 }, "encrypted"},
		"of a version to be":  {func(h *qcow2Head) { h.Version = 4 }, "version 4"},
		"something else":      {func(h *qcow2Head) { h.Magic[0] = 'X' }, "no disk"},
	} {
		head := whole
		c.change(&head)
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := binary.Write(f, binary.BigEndian, head); err != nil {
			t.Fatal(err)
		}
		f.Close()
		err = CheckDisk(path)
		if (err == nil) != (c.fault == "") || err != nil && !strings.Contains(err.Error(), c.fault) {
			t.Errorf("%s: %v, want %q", name, err, c.fault)
		}
	}
	if err := os.WriteFile(path, []byte("QFI"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := CheckDisk(path); err == nil {
		t.Error("three bytes are taken for a disk")
	}
}
