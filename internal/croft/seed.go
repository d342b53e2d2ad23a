package croft

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
)

// seedImage is the disk from which cloud-init reads a machine's user-data, as its data source NoCloud wants it: ISO
// 9660 with the label cidata. instanceID is what tells first boots of one disk apart.
func seedImage(instanceID, hostname, userData string) (image []byte, err error) {
	folder, err := os.MkdirTemp("", "croft-seed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	meta, err := json.Marshal(map[string]string{"instance-id": instanceID, "local-hostname": hostname}) // JSON is YAML
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "seed.iso")
	const size = 2 << 20
	disk, err := file.CreateFromPath(path, size)
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	work := filepath.Join(folder, "work")
	if err := os.Mkdir(work, 0o700); err != nil {
		return nil, err
	}
	fs, err := iso9660.Create(disk, size, 0, 2048, work)
	if err != nil {
		return nil, err
	}
	for name, content := range map[string][]byte{"meta-data": meta, "user-data": []byte(userData)} {
		f, err := fs.OpenFile(name, os.O_CREATE|os.O_RDWR)
		if err != nil {
			return nil, err
		}
		if _, err = f.Write(content); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	}
	if err := fs.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: "cidata"}); err != nil {
		return nil, err
	}
	return os.ReadFile(path)
}
