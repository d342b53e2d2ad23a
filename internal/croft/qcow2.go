package croft

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
)

// qcow2Head are the first fields of a disk in the form qcow2 (QEMU's docs/interop/qcow2.txt), in network byte order.
type qcow2Head struct {
	Magic         [4]byte
	Version       uint32
	BackingOffset uint64
	BackingSize   uint32
	ClusterBits   uint32
	Size          uint64
	CryptMethod   uint32
	_             [36]byte // tables and snapshots
	Incompatible  uint64   // from version 3 on
}

// externalData is the bit of a disk whose content is in another file.
const externalData = 1 << 2

// CheckDisk sees that a file is a disk in the form qcow2 that stands for itself: one that names another file would
// have the host open that for the person who made the disk.
func CheckDisk(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	var head qcow2Head
	start := make([]byte, binary.Size(head))
	if _, err := io.ReadFull(f, start); err != nil {
		return fmt.Errorf("%s is no disk in the form qcow2: it is too short", path)
	}
	if err := binary.Read(bytes.NewReader(start), binary.BigEndian, &head); err != nil {
		return err
	}
	switch {
	case head.Magic != [4]byte{'Q', 'F', 'I', 0xfb}:
		return fmt.Errorf("%s is no disk in the form qcow2; convert it: qemu-img convert -O qcow2 %s NAME.qcow2", path, path)
	case head.Version != 2 && head.Version != 3:
		return fmt.Errorf("%s has the version %d of qcow2; 2 and 3 are known", path, head.Version)
	case head.BackingOffset != 0 || head.Version == 3 && head.Incompatible&externalData != 0:
		return errors.New(path + " needs another file beside it; make it whole: qemu-img convert -O qcow2")
	case head.CryptMethod != 0:
		return errors.New(path + " is encrypted")
	}
	return nil
}
