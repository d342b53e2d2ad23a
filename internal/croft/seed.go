package croft

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
)

// seedSize is how large the disk with user-data is, in bytes.
const seedSize = 2 << 20

// writeSeed writes into a folder what cloud-init's data source NoCloud reads of a machine. instanceID is what tells
// first boots of one disk apart.
func writeSeed(folder, instanceID, hostname, userData string) error {
	meta, err := json.Marshal(map[string]string{"instance-id": instanceID, "local-hostname": hostname}) // JSON is YAML
	if err != nil {
		return err
	}
	return errors.Join(
		os.WriteFile(filepath.Join(folder, "meta-data"), meta, 0o600),
		os.WriteFile(filepath.Join(folder, "user-data"), []byte(userData), 0o600),
	)
}

// seedImage is the disk on which a virtual machine finds that: ISO 9660 with the label cidata.
func seedImage(instanceID, hostname, userData string) ([]byte, error) {
	folder, err := os.MkdirTemp("", "croft-seed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	path, work := filepath.Join(folder, "seed.iso"), filepath.Join(folder, "work")
	if err := os.Mkdir(work, 0o700); err != nil {
		return nil, err
	}
	if err := writeSeed(work, instanceID, hostname, userData); err != nil {
		return nil, err
	}
	disk, err := file.CreateFromPath(path, seedSize)
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	fs, err := iso9660.Create(disk, seedSize, 0, 2048, work)
	if err != nil {
		return nil, err
	}
	if err := fs.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: "cidata"}); err != nil {
		return nil, err
	}
	return os.ReadFile(path)
}
