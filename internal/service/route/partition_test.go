package route

import "testing"

func TestAPartitionIsNamedAsLinuxNamesIt(t *testing.T) {
	one := 1
	for device, want := range map[string]string{
		"/dev/vdx": "/dev/vdx1", "/dev/nvme0n1": "/dev/nvme0n1p1",
		"/dev/disk/by-id/virtio-croft12": "/dev/disk/by-id/virtio-croft12-part1",
	} {
		if got := partitionOf(device, &one); got != want {
			t.Errorf("%s: %s, want %s", device, got, want)
		}
		if got := partitionOf(device, nil); got != device {
			t.Errorf("%s without a partition: %s", device, got)
		}
	}
	for device, fine := range map[string]bool{
		"/dev/vdb": true, "": false, "/dev/vdb; rm -rf /": false, "-o": false, "/etc/passwd": false, "/dev/": false,
	} {
		if deviceForm.MatchString(device) != fine {
			t.Errorf("%q is taken: %v", device, !fine)
		}
	}
}
