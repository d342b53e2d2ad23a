package e2e

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"maps"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/sshio/sshdtest"
)

const certifiedConfig = "HostKey /etc/ssh/certified\nHostCertificate /etc/ssh/certified-cert.pub\n" +
	"PasswordAuthentication no\nKbdInteractiveAuthentication no\n"

// certified are the files of a host key that ca certifies for the names.
func certified(t *testing.T, ca ssh.Signer, names ...string) (map[string]string, ssh.PublicKey) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(&private.PublicKey)
	if err != nil {
		t.Fatal(err)
	}
	c := &ssh.Certificate{
		Key: key, CertType: ssh.HostCert, ValidPrincipals: names, KeyId: "a host",
		ValidAfter: uint64(time.Now().Add(-time.Hour).Unix()), ValidBefore: uint64(time.Now().Add(time.Hour).Unix()),
	}
	if err := c.SignCert(rand.Reader, ca); err != nil {
		t.Fatal(err)
	}
	return map[string]string{
		"/etc/ssh/certified?":         string(pem.EncodeToMemory(block)),
		"/etc/ssh/certified-cert.pub": string(ssh.MarshalAuthorizedKey(c)),
	}, key
}

func newSigner(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// machineWith is a machine with files, whose warden the key mine opens, or what opened another one.
func (h *house) machineWith(
	t *testing.T,
	before *sshdtest.Machine,
	config string,
	files map[string]string,
) *sshdtest.Machine {
	t.Helper()
	all := map[string]string{"/home/warden/.ssh/authorized_keys": read(t, h.private("mine.pub"))}
	if before != nil {
		all["/home/warden/.ssh/authorized_keys"] = read(t, filepath.Join(before.Home("warden"), ".ssh/authorized_keys"))
	}
	maps.Copy(all, files)
	return sshdtest.StartMachine(t, config, all)
}

func TestAHostAuthorityVouchesForHostKeysOfItsHostsAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	ca, other := newSigner(t), newSigner(t)
	files, key := certified(t, ca, "pump", "127.0.0.1")
	first := h.machineWith(t, nil, certifiedConfig, files)
	adopt := []string{
		"instance", "adopt", "pump", "-address", "127.0.0.1", "-port", fmt.Sprint(first.Port), "-login", "warden", "-with",
		h.private("mine"), "-steward",
	}
	if r := h.client(adopt...); r.status != 2 {
		t.Errorf("before there is an authority it asks: %+v", r)
	}
	line := "@cert-authority pump,127.* " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(ca.PublicKey())))
	h.must("host-authority", "add", "wrackline", "-from", writeFile(t, filepath.Join(t.TempDir(), "ca"), line+"\n"))
	h.refused(
		"key-taken", "host-authority", "add", "again", "-from", writeFile(t, filepath.Join(t.TempDir(), "ca"), line+"\n"),
	)
	h.must(adopt...)
	keys := h.hostKeys("pump")
	if len(keys.Pinned) != 1 || keys.Pinned[0].Sha256 != ssh.FingerprintSHA256(key) ||
		keys.Pinned[0].Learnt != "host certificate of the authority wrackline" {
		t.Errorf("%+v", keys.Pinned)
	}

	// Set up again, with another host key that the authority certifies: it is taken by itself, and one of another is not.
	files, key = certified(t, ca, "pump")
	second := h.machineWith(t, first, certifiedConfig, files)
	h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", second.Port))
	h.client("sweep", "pump")
	if keys := h.hostKeys("pump"); keys.Pinned[0].Sha256 != ssh.FingerprintSHA256(key) || len(keys.Former) != 1 {
		t.Errorf("after it was set up again: %+v", keys)
	}
	for name, c := range map[string]struct {
		by    ssh.Signer
		names []string
	}{"of another authority": {other, []string{"pump"}}, "of another host": {ca, []string{"mast"}}} {
		files, _ := certified(t, c.by, c.names...)
		third := h.machineWith(t, second, certifiedConfig, files)
		h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", third.Port))
		if r := h.client("sweep", "pump"); !strings.Contains(r.out+r.err, "host key") {
			t.Errorf("%s: %+v", name, r)
		}
		if now := h.hostKeys("pump"); now.Pinned[0].Sha256 != ssh.FingerprintSHA256(key) {
			t.Errorf("%s is pinned: %+v", name, now)
		}
	}
	if n := h.toldOften("hostkey.pin:vouched"); n != 1 {
		t.Errorf("it is told of %d times", n)
	}
	h.must("host-authority", "remove", "wrackline", "-reason", "over")
	h.refused("no-such-authority", "host-authority", "remove", "wrackline")
	p := h.console(t)
	p.open("/settings/host-authorities")
	p.press("Add an authority")
	p.fill("Name", "south")
	p.fill("Public key", line)
	p.press("Add it")
	p.says("pump,127.*")
	if out := h.must("host-authority", "list", "-q"); out != "south\n" {
		t.Errorf("added in the console: %q", out)
	}
	p.press("Remove")
	p.press("Remove it")
	p.says("No authority")
}

func TestAnExpectedHostKeyIsTakenOnceTheMachineShowsIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	plain := "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
	first := h.sudoMachine(t, "pump", "mine", "", "")
	h.must("instance", "steward", "pump", "-with", h.private("mine"), "-yes")
	second, third := h.machineWith(t, first, plain, nil), h.machineWith(t, first, plain, nil)
	h.refused("no-reason", "host-key", "expect", "pump", ssh.FingerprintSHA256(second.HostKey))
	h.refused("bad-digest", "host-key", "expect", "pump", "SHA256:short", "-reason", "x")
	h.must("host-key", "expect", "pump", ssh.FingerprintSHA256(second.HostKey), "-reason", "set up again on Sunday")
	before := h.hostKeys("pump")
	h.client("sweep", "pump")
	if now := h.hostKeys("pump"); len(*now.Expected) != 1 || now.Pinned[0].Sha256 != before.Pinned[0].Sha256 {
		t.Errorf("before it was set up again: %+v", now)
	}
	h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", third.Port))
	if r := h.client("sweep", "pump"); !strings.Contains(r.out+r.err, "host key") {
		t.Errorf("another than the expected one: %+v", r)
	}
	h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", second.Port))
	h.client("sweep", "pump")
	now := h.hostKeys("pump")
	if now.Pinned[0].Sha256 != ssh.FingerprintSHA256(second.HostKey) || len(*now.Expected) != 0 ||
		!strings.Contains(now.Former[0].Reason, "set up again on Sunday") {
		t.Errorf("after it was set up again: %+v", now)
	}
	h.must("host-key", "expect", "pump", ssh.FingerprintSHA256(third.HostKey), "-reason", "x")
	h.must("host-key", "expect", "pump", ssh.FingerprintSHA256(third.HostKey), "-withdraw")
	p := h.console(t)
	p.open("/instances/pump")
	p.press("Expect another host key")
	p.fill("SHA-256 fingerprint", ssh.FingerprintSHA256(third.HostKey))
	p.fill("Reason, for the daybook", "a new disk")
	p.press("Expect it")
	p.says("a new disk")
	p.press("Withdraw")
	p.holds("it to be expected no longer", `!document.body.innerText.includes("a new disk")`)
	if now := h.hostKeys("pump"); len(*now.Expected) != 0 {
		t.Errorf("after it was withdrawn: %+v", now)
	}
}

func TestHostKeysAreTakenFromTheBootOutputAfterARebuildThatTheCloudConfirms(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	h.must("cloud", "read", "main")
	before, i := h.hostKeys("door"), h.instance("door")
	port := h.cloudPort()
	state := func(want cloud.InstanceState) {
		t.Helper()
		eventually(t, "it is "+string(want), func() bool {
			now, err := port.Instance(t.Context(), i.CloudId)
			return err == nil && now.State == want
		})
	}
	if _, err := port.Stop(t.Context(), i.CloudId); err != nil {
		t.Fatal(err)
	}
	state(cloud.Stopped)
	h.adapter("POST", "/instances/"+i.CloudId+"/rebuild", "")
	if _, err := port.Start(t.Context(), i.CloudId); err != nil {
		t.Fatal(err)
	}
	state(cloud.Running)
	h.must("cloud", "read", "main")
	now := h.hostKeys("door")
	if now.Pinned[0].Sha256 == before.Pinned[0].Sha256 || now.Pinned[0].Learnt != "cloud boot output" ||
		len(now.Former) == 0 || !strings.Contains(now.Former[0].Reason, "set it up anew") {
		t.Errorf("%+v", now)
	}
	if out, err := h.ssh(h.instance("door"), "mine", "hostname"); err != nil || out != "door" {
		t.Errorf("%s %v", out, err)
	}
	h.must("cloud", "read", "main")
	if n := h.toldOften("hostkey.pin:rebuilt"); n != 1 {
		t.Errorf("it is told of %d times", n)
	}
}
