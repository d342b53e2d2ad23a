// Package image makes images of Debian from Debian's packages, with cloud-init, OpenSSH and QEMU's guest agent: for
// virtual machines a disk with GRUB and one file system, for containers that file system alone. It needs root, and the
// programs of Debian that Needs names; for XFS a loop device too, since only a mounted one can be filled.
package image

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/croft"
)

// recipe is what an image is made by. The same recipe makes the same image, except for what Debian has published since.
type recipe struct {
	Version  int
	Suite    string
	Packages []string
	// Files are written into it, and Masked are units of systemd that are switched off.
	Files  map[string]string
	Masked []string
	// Line is what the kernel is started with.
	Line string
	MiB  int
	UUID string
	// XFS is whether its file system is XFS in the place of ext4.
	XFS bool `json:",omitempty"`
	// Container is whether it is for containers, which have no kernel of their own and no boot loader.
	Container bool `json:",omitempty"`
}

// containerSuffix ends the name of an image for containers, and xfsSuffix that of one whose file system is XFS.
const (
	containerSuffix = "-container"
	xfsSuffix       = "-xfs"
)

// releases are the names of the releases of Debian that images are made of, by the names of the images.
var releases = map[string]string{"debian-12": "bookworm", "debian-13": "trixie"}

// Needs are the programs that Build runs, by the packages of Debian that they are in.
var Needs = map[string]string{
	"mmdebstrap": "mmdebstrap", "sfdisk": "fdisk", "mke2fs": "e2fsprogs", "grub-mkimage": "grub-common",
	"mkfs.xfs":                       "xfsprogs",
	"/usr/lib/grub/i386-pc/boot.img": "grub-pc-bin", "qemu-img": "qemu-utils",
}

var packages = []string{
	"systemd-sysv", "udev", "dbus", "linux-image-cloud-amd64", "initramfs-tools", "busybox", "zstd", "cloud-init",
	"openssh-server", "qemu-guest-agent", "sudo", "iproute2", "e2fsprogs", "xfsprogs", "procps", "netbase", "less",
	"util-linux", "kmod", "libnss-myhostname", // without which sudo waits for a name server
}

// ofMachines are those of the packages that a container has no use for.
var ofMachines = []string{
	"linux-image-cloud-amd64", "initramfs-tools", "busybox", "zstd", "e2fsprogs", "xfsprogs", "kmod",
}

// ofHosts are units that the host of a container sees to.
var ofHosts = []string{
	"systemd-udevd.service", "systemd-udev-trigger.service", "systemd-udev-settle.service", "systemd-udevd-kernel.socket",
	"systemd-udevd-control.socket", "console-getty.service", "container-getty@.service", "systemd-remount-fs.service",
	"systemd-logind.service", "qemu-guest-agent.service", "dev-hugepages.mount", "dev-mqueue.mount",
	"sys-kernel-debug.mount", "sys-kernel-tracing.mount", "sys-kernel-config.mount", "sys-fs-fuse-connections.mount",
}

// agentUnit has the guest agent listen in the folder by which croft reaches it, since a container has no serial port.
const agentUnit = `[Unit]
Description=Guest agent, over a folder of the host
ConditionPathIsDirectory=` + croft.AgentFolder + `

[Service]
ExecStartPre=/bin/rm -f ` + croft.AgentFolder + "/" + croft.AgentSocket + `
ExecStart=/usr/sbin/qemu-ga -m unix-listen -p ` + croft.AgentFolder + "/" + croft.AgentSocket + ` -t /run
Restart=always
RestartSec=1
TimeoutStopSec=3

[Install]
WantedBy=multi-user.target
`

// idle are units that do nothing useful in a machine that a cloud looks after.
var idle = []string{
	"apt-daily.timer", "apt-daily-upgrade.timer", "dpkg-db-backup.timer", "e2scrub_all.timer", "fstrim.timer",
	"e2scrub_reap.service", "systemd-pstore.service", "systemd-networkd-wait-online.service", "cloud-init-hotplugd.socket",
	"systemd-timesyncd.service", "systemd-rfkill.socket",
}

// slow are more that take long under emulation.
var slow = []string{
	"systemd-binfmt.service", "proc-sys-fs-binfmt_misc.automount", "dev-hugepages.mount", "dev-mqueue.mount",
	"sys-kernel-debug.mount", "sys-kernel-tracing.mount", "sys-kernel-config.mount", "sys-fs-fuse-connections.mount",
	"modprobe@.service", "systemd-journal-flush.service", "systemd-fsck-root.service", "systemd-random-seed.service",
	"systemd-update-utmp.service", "systemd-update-utmp-runlevel.service", "kmod-static-nodes.service",
	"systemd-modules-load.service", "systemd-network-generator.service", "systemd-sysusers.service",
	"systemd-firstboot.service", "systemd-machine-id-commit.service", "getty@tty1.service", "getty-static.service",
	"systemd-ask-password-console.path", "systemd-ask-password-wall.path", "systemd-hwdb-update.service",
	"ldconfig.service",
}

const cloudConfig = `datasource_list: [NoCloud, None]
system_info:
  network: {renderers: [networkd]}
  default_user:
    name: debian
    gecos: Debian
    groups: [adm, sudo]
    sudo: ["ALL=(ALL) NOPASSWD:ALL"]
    shell: /bin/bash
    lock_passwd: true
ssh_genkeytypes: [ed25519, ecdsa]
manage_etc_hosts: false
apt_preserve_sources_list: true
`

const quickConfig = `cloud_init_modules: [bootcmd, write-files, growpart, resizefs, set_hostname, users-groups, ssh]
cloud_config_modules: [runcmd]
cloud_final_modules: [scripts-user, ssh-authkey-fingerprints, keys-to-console, final-message]
`

// recipeFor is the recipe of an image. A quick one starts in half the time under emulation; it does without protections
// of the kernel, and is for tests and demos alone.
func recipeFor(name string, quick bool) (recipe, error) {
	base, container := strings.CutSuffix(name, containerSuffix)
	base, xfs := strings.CutSuffix(base, xfsSuffix)
	suite, known := releases[base]
	if !known || container && xfs {
		return recipe{}, fmt.Errorf(
			"there is no recipe for %q; there are debian-12 and debian-13, and both with %s or %s", name, xfsSuffix,
			containerSuffix,
		)
	}
	if container {
		return containerRecipe(suite, quick), nil
	}
	r := recipe{
		Version: 1, Suite: suite, Packages: packages, Masked: idle, MiB: 2048,
		Line: "ro console=ttyS0 net.ifnames=0 quiet",
		Files: map[string]string{
			"etc/hostname":                       "debian\n",
			"etc/hosts":                          "127.0.0.1 localhost\n127.0.1.1 debian\n::1 localhost\n",
			"etc/machine-id":                     "",
			"etc/cloud/cloud.cfg.d/90_image.cfg": cloudConfig,
			// By its MAC address; by its machine-id, a copy that is launched would take the address of the first.
			"etc/systemd/networkd.conf.d/identity.conf": "[DHCPv4]\nDUIDType=link-layer\n",
			"etc/initramfs-tools/conf.d/small":          "MODULES=list\nCOMPRESS=lz4\n",
			"etc/initramfs-tools/modules":               "virtio_pci\nvirtio_blk\next4\n",
			"etc/systemd/journald.conf.d/size.conf":     "[Journal]\nSystemMaxUse=64M\n",
		},
	}
	if quick {
		r.Masked = append(slices.Clone(r.Masked), slow...)
		r.Files["etc/cloud/cloud.cfg.d/95_quick.cfg"] = quickConfig
		r.Files["etc/systemd/journald.conf.d/size.conf"] = "[Journal]\nStorage=volatile\n"
		r.Line = "rw console=ttyS0 net.ifnames=0 quiet mitigations=off systemd.show_status=0 audit=0 lsm= fsck.mode=skip " +
			"panic=-1 nokaslr norandmaps rcupdate.rcu_expedited=1 8250.nr_uarts=1 cryptomgr.notests " +
			"systemd.unit=multi-user.target"
	}
	if r.XFS = xfs; xfs {
		r.Files["etc/initramfs-tools/modules"] = "virtio_pci\nvirtio_blk\nxfs\n"
	}
	r.UUID = uuid.NewSHA1(uuid.Nil, []byte(r.digest())).String()
	r.Line = "root=UUID=" + r.UUID + " " + r.Line
	r.Files["etc/fstab"] = "UUID=" + r.UUID + " / ext4 noatime,errors=remount-ro 0 1\n"
	if xfs {
		r.Files["etc/fstab"] = "UUID=" + r.UUID + " / xfs noatime 0 0\n"
	}
	return r, nil
}

// containerRecipe is the recipe of an image for containers.
func containerRecipe(suite string, quick bool) recipe {
	r := recipe{
		Version: 1, Suite: suite, MiB: 1024, Container: true, Masked: slices.Concat(idle, ofHosts),
		Packages: slices.DeleteFunc(slices.Clone(packages), func(p string) bool { return slices.Contains(ofMachines, p) }),
		Files: map[string]string{
			"etc/hostname":                       "debian\n",
			"etc/hosts":                          "127.0.0.1 localhost\n127.0.1.1 debian\n::1 localhost\n",
			"etc/machine-id":                     "",
			"etc/fstab":                          "",
			"etc/cloud/cloud.cfg.d/90_image.cfg": cloudConfig,
			"etc/systemd/networkd.conf.d/identity.conf": "[DHCPv4]\nDUIDType=link-layer\n",
			"etc/systemd/journald.conf.d/size.conf":     "[Journal]\nSystemMaxUse=16M\n",
			"etc/systemd/system/" + agentService:        agentUnit,
		},
	}
	if quick {
		r.Files["etc/cloud/cloud.cfg.d/95_quick.cfg"] = quickConfig
		r.Files["etc/systemd/journald.conf.d/size.conf"] = "[Journal]\nStorage=volatile\n"
	}
	r.UUID = uuid.NewSHA1(uuid.Nil, []byte(r.digest())).String()
	return r
}

// packagesFile is the name of the file with the packages, unpacked, which other recipes with the same ones take too.
func (r recipe) packagesFile() string {
	sum := sha256.Sum256([]byte(r.Suite + " " + strings.Join(r.Packages, " ")))
	return "packages-" + hex.EncodeToString(sum[:8]) + ".tar"
}

// fileSystem is that of the image.
func (r recipe) fileSystem() string {
	if r.XFS {
		return "xfs"
	}
	return "ext4"
}

// agentService is the unit of the guest agent in a container.
const agentService = "guest-agent-folder.service"

// digest tells recipes apart, in hexadecimal.
func (r recipe) digest() string {
	text, err := json.Marshal(r)
	if err != nil { // of text and numbers alone
		panic(err)
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// mirror is where this machine gets Debian's packages from, as its apt is told.
func mirror(root string) (string, error) {
	lists, err := filepath.Glob(filepath.Join(root, "etc/apt/sources.list.d/*"))
	if err != nil {
		return "", err
	}
	for _, path := range append(lists, filepath.Join(root, "etc/apt/sources.list")) {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			words := strings.Fields(line)
			if len(words) < 2 || words[0] != "deb" && words[0] != "URIs:" {
				continue
			}
			for _, w := range words[1:] {
				if strings.Contains(w, "://") && !strings.Contains(w, "security") {
					return w, nil
				}
			}
		}
	}
	return "", fmt.Errorf("no source of packages is named in %s/etc/apt", strings.TrimSuffix(root, "/"))
}
