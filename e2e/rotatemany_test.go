package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cloud"
)

// TestOfAThousandLoginsFiftyFailInFiveWaysAndHoldUpNoOther rotates the grown sample
// fleet through the guest agent.
func TestOfAThousandLoginsFiftyFailInFiveWaysAndHoldUpNoOther(t *testing.T) {
	t.Parallel() // it waits more than it works
	dir := demoDir(t)
	_, h := startDemo(t, dir, "-demo-size", "1003", "-sweep-every", "0")
	var instances []apiclient.Instance
	if err := json.Unmarshal(
		[]byte(h.must("instance", "list", "-all", "-label", "team=load", "-json")), &instances,
	); err != nil {
		t.Fatal(err)
	}
	if len(instances) != 976 {
		t.Fatalf("%d instances", len(instances))
	}
	port, err := cloud.Connect(
		h.inCloud("south-marsh").Adapter,
		strings.TrimSpace(read(t, filepath.Join(dir, "paddock-south-marsh.token"))), cloud.CallTimeout,
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range instances {
		if err := port.PermitAgent(t.Context(), i.CloudId, true); err != nil {
			t.Fatal(err)
		}
	}
	file := func(i apiclient.Instance) string {
		return filepath.Join(dir, "paddock-south-marsh", "disks", i.CloudId, "home/debian/.ssh/authorized_keys")
	}
	var wanted apiclient.RotationPlan
	eventually(t, "the guest agents have registered", func() bool {
		if err := json.Unmarshal(
			[]byte(h.client("rotate", "plan", "-older", "3d", "-label", "team=load", "-json").out), &wanted,
		); err != nil {
			t.Fatal(err)
		}
		return wanted.LeftOut == 0
	})
	if wanted.Logins != 976 || len(wanted.NewKeys) != 40 || wanted.LeftOut != 0 {
		t.Fatalf(
			"the plan changes %d logins with %d new keys and leaves out %d", wanted.Logins, len(wanted.NewKeys),
			wanted.LeftOut,
		)
	}
	// Every twentieth is broken, until there are ten of each way.
	ways := []struct {
		why     string
		breakIt func(i apiclient.Instance, text string) error
	}{
		{"is no longer there", func(i apiclient.Instance, text string) error {
			return os.WriteFile(file(i), []byte("# tide tables\n"), 0o600)
		}},
		{"certificate authority", func(i apiclient.Instance, text string) error {
			return os.WriteFile(file(i), []byte("cert-authority "+text), 0o600)
		}},
		{"refuses the login", func(i apiclient.Instance, text string) error {
			return os.WriteFile(file(i), []byte(`from="192.0.2.1" `+text), 0o600)
		}},
		{"there is no user debian", func(i apiclient.Instance, text string) error {
			return os.WriteFile(
				filepath.Join(dir, "paddock-south-marsh", "disks", i.CloudId, "etc/passwd"),
				[]byte("root:x:0:0:root:/root:/bin/sh\n"),
				0o644,
			)
		}},
		{"is not the ordinary file", func(i apiclient.Instance, text string) error {
			if err := os.Remove(file(i)); err != nil {
				return err
			}
			return os.Mkdir(file(i), 0o700)
		}},
	}
	broken := map[string]string{} // by instance, what was there
	before := map[string]string{}
	for n, i := range instances {
		text := read(t, file(i))
		before[i.Name] = text
		if n%19 != 0 || len(broken) == 50 {
			continue
		}
		if err := ways[len(broken)%5].breakIt(i, text); err != nil {
			t.Fatal(err)
		}
		broken[i.Name] = ways[len(broken)%5].why
		if info, err := os.Stat(file(i)); err == nil && info.Mode().IsRegular() {
			before[i.Name] = read(t, file(i))
		}
	}
	h.client("rotate", "start", "-older", "3d", "-label", "team=load", "-make", "service", "-detach", "-yes")
	for range 10 { // each watches for two minutes at most
		if h.rotation().EndedAt != nil {
			break
		}
		h.client("rotate", "watch", h.rotation().Id.String())
	}
	r := h.rotation()
	if r.Counts["done"] != 926 || r.Counts["failed"] != 50 || r.EndedAt == nil {
		t.Fatalf("%v", r.Counts)
	}
	for _, i := range h.rotationItems(r.Id.String()) {
		why, bad := broken[i.Instance]
		if bad != (i.State == apiclient.RotationItemStateFailed) || bad && !strings.Contains(*i.Detail, why) {
			t.Errorf("%s: %s %q, want %q", i.Instance, i.State, *i.Detail, why)
		}
	}
	for _, i := range instances {
		old := strings.Fields(before[i.Name])
		info, err := os.Stat(file(i))
		if err != nil {
			t.Fatal(err)
		}
		if !info.Mode().IsRegular() {
			continue
		}
		text := read(t, file(i))
		if _, bad := broken[i.Name]; bad {
			if text != before[i.Name] {
				t.Errorf("%s failed, and its file is\n%s\nwas\n%s", i.Name, text, before[i.Name])
			}
		} else if strings.Contains(text, old[1]) || strings.Count(text, "\n") != 1 {
			t.Errorf("%s: the file is\n%s\nwas\n%s", i.Name, text, before[i.Name])
		}
	}
	if p := h.report(r.Id.String()); len(p.Replaced) != 926 || len(p.NotDone) != 50 {
		t.Errorf("the report tells of %d and %d", len(p.Replaced), len(p.NotDone))
	}
}
