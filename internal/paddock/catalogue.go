package paddock

import "plumlatch/internal/adapter"

var anyKey = []string{"ed25519", "rsa", "ecdsa", "sk-ed25519", "sk-ecdsa"}

var images = []adapter.Image{
	{
		Name:         "debian-12",
		Title:        "Debian 12",
		Family:       adapter.ImageFamilyLinux,
		LoginUser:    "debian",
		GuestAgent:   true,
		BrowserShell: new(true),
		KeyTypes:     anyKey,
	},
	{
		Name:         "ubuntu-24.04",
		Title:        "Ubuntu 24.04 LTS",
		Family:       adapter.ImageFamilyLinux,
		LoginUser:    "ubuntu",
		GuestAgent:   true,
		MetadataKeys: new(true),
		BrowserShell: new(true),
		KeyTypes:     anyKey,
	},
	{
		Name:         "fedora-42",
		Title:        "Fedora 42",
		Family:       adapter.ImageFamilyLinux,
		LoginUser:    "fedora",
		GuestAgent:   true,
		BrowserShell: new(true),
		KeyTypes:     anyKey,
	},
	{Name: "alpine-3.22", Title: "Alpine 3.22", Family: adapter.ImageFamilyLinux, LoginUser: "root", KeyTypes: anyKey},
	{
		Name:         "gateway-os-7",
		Title:        "Field gateway OS 7",
		Family:       adapter.ImageFamilyLinux,
		LoginUser:    "warden",
		MetadataKeys: new(true),
		KeyTypes:     anyKey,
	},
	{
		Name:       "windows-2022",
		Title:      "Windows Server 2022",
		Family:     adapter.ImageFamilyWindows,
		LoginUser:  "administrator",
		GuestAgent: true,
		KeyTypes:   []string{"rsa"},
	},
}

var sizes = []adapter.Size{
	{Name: "small", Cpus: 1, MemoryMib: 1024, DiskGib: 10},
	{Name: "medium", Cpus: 2, MemoryMib: 4096, DiskGib: 20},
	{Name: "large", Cpus: 4, MemoryMib: 16384, DiskGib: 80},
	{Name: "large-scratch", Cpus: 4, MemoryMib: 16384, DiskGib: 40, TemporaryDiskGib: 200},
}

var zones = []adapter.Zone{
	{Name: "north-shore-a", Region: "north-shore"},
	{Name: "north-shore-b", Region: "north-shore"},
	{Name: "south-marsh-a", Region: "south-marsh"},
	{Name: "south-marsh-b", Region: "south-marsh"},
}

func imageNamed(name string) (adapter.Image, bool) {
	for _, i := range images {
		if i.Name == name {
			return i, true
		}
	}
	return adapter.Image{}, false
}

// sizeNamed returns the size of that name; one without a name where there is none.
func sizeNamed(name string) adapter.Size {
	for _, s := range sizes {
		if s.Name == name {
			return s
		}
	}
	return adapter.Size{}
}

// layout is how an image's root disk is.
type layout struct {
	device, filesystem string
	// labelled is whether a file needs the right security label to be read by sshd.
	labelled bool
}

var layouts = map[string]layout{
	"debian-12": {
		"/dev/vda",
		"ext4",
		false,
	}, "ubuntu-24.04": {"/dev/sda", "xfs", false}, "fedora-42": {"/dev/vda", "xfs", true},
	"alpine-3.22": {
		"/dev/xvda",
		"ext4",
		false,
	}, "gateway-os-7": {"/dev/mmcblk0", "xfs", false}, "windows-2022": {"/dev/sda", "ntfs", false},
}

func zoneNamed(name string) (adapter.Zone, bool) {
	for _, z := range zones {
		if z.Name == name {
			return z, true
		}
	}
	return adapter.Zone{}, false
}
