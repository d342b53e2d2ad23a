package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cloud"
)

func (h *house) cloudKeys(t *testing.T) map[string]apiclient.CloudKey {
	t.Helper()
	var all apiclient.CloudKeys
	if err := json.Unmarshal([]byte(h.must("cloud", "keys", "main", "-json")), &all.Keys); err != nil {
		t.Fatal(err)
	}
	out := map[string]apiclient.CloudKey{}
	for _, k := range all.Keys {
		out[k.Region+"/"+k.Name] = k
	}
	return out
}

func TestACloudsCatalogueOfKeysIsComparedImportedFromAndPublishedTo(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "plain", "-type", "rsa", "-bits", "2048")
	if out := h.must("cloud", "publish", "main", "plain", "-as", "deploy"); !strings.Contains(out, "south-marsh") {
		t.Errorf("%s", out)
	}
	if out := h.must("cloud", "publish", "main", "plain", "-as", "deploy"); !strings.Contains(out, "already") {
		t.Errorf("again: %s", out)
	}
	if r := h.client("cloud", "publish", "main", "mine", "-as", "deploy"); r.status != 1 ||
		!strings.Contains(r.out, "another key") {
		t.Errorf("another key under the same name: %+v", r)
	}
	h.must("cloud", "publish", "main", "mine", "-region", "north-shore")
	h.refused("bad-region", "cloud", "publish", "main", "mine", "-region", "nowhere")
	h.refused("no-such-key", "cloud", "publish", "main", "nobody")

	// The cloud writes RSA keys by MD5 over the DER form, and gives no public key of this one.
	all := h.cloudKeys(t)
	if k := all["north-shore/deploy"]; len(k.RecordedAs) != 1 || k.RecordedAs[0] != "plain" ||
		!strings.Contains(k.Fingerprint, ":") || valueOf(k.Notation) != "MD5" {
		t.Errorf("%+v", k)
	}
	if k := all["north-shore/mine"]; len(k.RecordedAs) != 1 || len(all) != 3 {
		t.Errorf("%+v of %d", k, len(all))
	}

	// One that was there before us; a name that is not the truth beside an instance.
	stranger := strings.TrimSpace(h.strangersLine(t))
	if _, err := h.cloudPort().AddKeyPair(t.Context(), "north-shore", "found", stranger); err != nil {
		t.Fatal(err)
	}
	h.must("cloud", "import-keys", "main", "found")
	var k apiclient.Key
	if err := json.Unmarshal([]byte(h.must("key", "show", "found", "-json")), &k); err != nil || k.Holder != nil {
		t.Errorf("whose private key is nobody's as far as is known: %+v %v", k.Holder, err)
	}
	h.refused("no-such-named-key", "cloud", "import-keys", "main", "nobody")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	h.must("cloud", "read", "main")
	if k := h.cloudKeys(t)["north-shore/mine"]; k.Launched != 1 || k.Opens != 1 || k.Untrue != 0 {
		t.Errorf("the name of a key that opens: %+v", k)
	}
	file := h.keysFile("door")
	lines := strings.Split(read(t, file), "\n")
	if err := os.WriteFile(file, []byte(strings.Join(lines[1:], "\n")), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "door")
	if k := h.cloudKeys(t)["north-shore/mine"]; k.Launched != 1 || k.Untrue != 1 {
		t.Errorf("the name of a key that does not open it any longer: %+v", k)
	}
	if out := h.must("cloud", "keys", "main"); !strings.Contains(out, "not the truth") || !strings.Contains(out, "of 50") {
		t.Errorf("%s", out)
	}
	if r := h.client("cloud", "unpublish", "main", "deploy"); r.status == 0 {
		t.Error("it is taken out without a question")
	}
	h.must("cloud", "unpublish", "main", "deploy", "-yes")
	h.refused("no-such-named-key", "cloud", "unpublish", "main", "deploy", "-yes")
}

// valueOf is the value of what may be absent.
func valueOf[T any](v *T) (out T) {
	if v != nil {
		out = *v
	}
	return out
}

// strangersLine is the public key of a pair that has no record.
func (h *house) strangersLine(t *testing.T) string {
	t.Helper()
	h.must("key", "new", "gone-"+fmt.Sprint(len(h.must("key", "list", "-q"))))
	names := strings.Fields(h.must("key", "list", "-q", "-find", "gone-"))
	name := names[len(names)-1]
	line := read(t, h.private(name+".pub"))
	h.must("key", "delete", name, "-yes")
	return line
}

func TestKeysThatACloudHandsToGroupsAreWaysInAndAreChanged(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "rescue")
	h.must("instance", "launch", "takes", "-image", "ubuntu-24.04", "-size", "small", "-key", "mine", "-steward")
	h.must("instance", "launch", "none", "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	h.must("prove", "ubuntu@takes", "-with", h.private("mine"))
	h.must("cloud", "read", "main")
	if out := h.must("group-key", "list"); !strings.Contains(out, "No cloud hands") {
		t.Errorf("%s", out)
	}
	add := []string{"group-key", "add", "rescue", "-group", "the whole project", "-user", "ubuntu"}
	if r := h.client(add...); r.status == 0 {
		t.Error("it is handed out without a question")
	}
	if out := h.must(append(add, "-yes")...); !strings.Contains(out, "1 login") {
		t.Errorf("%s", out)
	}
	if out := h.must(append(add, "-yes")...); !strings.Contains(out, "nothing was changed") {
		t.Errorf("again: %s", out)
	}
	eventually(t, "the process in the guest follows", func() bool {
		out, err := h.ssh(h.instance("takes"), "rescue", "whoami")
		return err == nil && out == "ubuntu"
	})

	// It is shown at the login, at the group, in a trace, and in what its loss would do; before anybody has read the
	// login.
	ways := func(login string) string { return h.client("login", "show", login, "-json").out }
	if out := ways("ubuntu@takes"); !strings.Contains(out, `"group-key"`) ||
		!strings.Contains(out, "rescue, which the cloud main") {
		t.Errorf("%s", out)
	}
	if out := ways("debian@none"); strings.Contains(out, "group-key") {
		t.Errorf("on an image without the process: %s", out)
	}
	if r := h.client("openers", "takes"); r.status != 3 || !strings.Contains(r.out, "rescue, which the cloud") {
		t.Errorf("%+v", r)
	}
	var groups []struct {
		apiclient.KeyGroup
		Cloud string
	}
	if err := json.Unmarshal([]byte(h.must("group-key", "list", "-json")), &groups); err != nil || len(groups) != 1 ||
		groups[0].Taking != 1 || groups[0].Refusing != 1 || valueOf(groups[0].Keys[0].Key) != "rescue" {
		t.Errorf("%v %+v", err, groups)
	}
	if out := h.must("trace", read(t, h.private("rescue.pub"))); !strings.Contains(out, "hands to the whole project") {
		t.Errorf("%s", out)
	}
	h.must("prove", "rescue", "-with", h.private("rescue"))
	var loss apiclient.Loss
	if err := json.Unmarshal([]byte(h.must("key", "loss", "mine", "rescue", "-json")), &loss); err != nil {
		t.Fatal(err)
	}
	at := map[string]apiclient.ReachState{}
	for _, c := range loss.Changes {
		at[c.Login] = c.After
	}
	if at["ubuntu@takes"] != apiclient.ReachStateShut {
		t.Errorf("the loss of both: %+v", loss.Changes)
	}
	if err := json.Unmarshal([]byte(h.must("key", "loss", "mine", "-json")), &loss); err != nil {
		t.Fatal(err)
	}
	for _, c := range loss.Changes {
		if c.Login == "ubuntu@takes" && c.After == apiclient.ReachStateShut {
			t.Error("the loss of one shuts it, though the cloud hands out another")
		}
	}

	// A change behind our back is noted.
	line := strings.TrimSpace(h.strangersLine(t))
	port := h.cloudPort()
	now, err := port.KeyGroups(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range now {
		if g.Id == "zone.north-shore-a" {
			entry := []cloud.MetadataKey{{User: "ubuntu", Line: line}}
			if err := port.SetKeyGroup(t.Context(), g.Id, g.Keys, entry); err != nil {
				t.Fatal(err)
			}
		}
	}
	h.must("cloud", "read", "main")
	if out := h.must("daybook", "list"); !strings.Contains(out, "hands to north-shore-a have changed") {
		t.Errorf("%s", out)
	}

	// One machine refuses; a removal that leaves nobody is refused, and done all the same where somebody says so.
	h.must("group-key", "refuse", "takes", "-yes")
	eventually(t, "the lines of the groups go", func() bool {
		_, err := h.ssh(h.instance("takes"), "rescue", "whoami")
		return err != nil
	})
	if out, err := h.ssh(h.instance("takes"), "mine", "whoami"); err != nil {
		t.Errorf("its own key: %s %v", out, err)
	}
	if out := ways("ubuntu@takes"); strings.Contains(out, "group-key") {
		t.Errorf("after it refuses: %s", out)
	}
	h.must("group-key", "take", "takes", "-yes")
	h.must("grant", "withdraw", "mine", "takes", "-anyway", "-reason", "to see")
	h.client("sweep", "takes")
	remove := []string{"group-key", "remove", "rescue", "-group", "project", "-user", "ubuntu", "-yes"}
	h.must("instance", "launch", "unread", "-image", "ubuntu-24.04", "-size", "small", "-no-key")
	h.must("cloud", "read", "main")
	h.refused("nobody-left", remove...)
	h.refused("no-reason", append(remove, "-anyway")...)
	h.must(append(remove, "-anyway", "-reason", "its laptop is stolen")...)
	eventually(t, "the line goes", func() bool {
		_, err := h.ssh(h.instance("takes"), "rescue", "whoami")
		return err != nil
	})
	if out := h.must("daybook", "list"); !strings.Contains(out, "though that leaves logins") {
		t.Errorf("%s", out)
	}
	// Only an admin changes what opens a whole project.
	password := h.home() + "/runa.password"
	if err := os.WriteFile(password, []byte("harbour kittiwake"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("operator", "add", "runa", "-role", "operator", "-password-file", password)
	if r := h.as(h.signIn("runa", "harbour kittiwake"), append(add, "-yes")...); r.status != 5 {
		t.Errorf("an operator: %+v", r)
	}
	// Nor does somebody who works on a part plant a key that others launch with.
	h.must("operator", "change", "runa", "-limit", "team=field")
	h.must("instance", "launch", "part", "-image", "debian-12", "-size", "small", "-no-key", "-label", "team=field")
	token := h.signIn("runa", "harbour kittiwake")
	if r := h.as(token, "cloud", "publish", "main", "mine"); r.status != 5 || len(h.cloudKeys(t)) != 0 {
		t.Errorf("a limited operator publishes: %+v", r)
	}
}

func TestShortLivedInstancesAreRecordedByThemselvesOrLeftAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	launch := func(name string, labels map[string]string) cloud.Instance {
		t.Helper()
		port := h.cloudPort()
		op, err := port.Launch(t.Context(), cloud.Launch{
			RequestToken: name, Name: name, Image: "debian-12", Size: "small", Zone: "north-shore-a", Labels: &labels,
		})
		if op, err = port.Await(t.Context(), op, err); err != nil {
			t.Fatal(err)
		}
		i, err := port.Instance(t.Context(), op.Instance)
		if err != nil {
			t.Fatal(err)
		}
		return i
	}
	h.must("record-rule", "set", "-label", "pool=workers", "-leave-alone")
	h.must("record-rule", "set", "-label", "team=field", "-record", "-cloud", "main", "-reason", "ours")
	if r := h.client("record-rule", "set", "-label", "x=y"); r.status != 2 {
		t.Errorf("%+v", r)
	}
	h.refused("no-such-cloud", "record-rule", "set", "-label", "x=y", "-record", "-cloud", "nowhere")
	launch("worker", map[string]string{"pool": "workers", "team": "field"})
	ours := launch("gauge", map[string]string{"team": "field"})
	launch("other", map[string]string{"team": "sea"})
	h.must("cloud", "read", "main")
	names := func() string { return h.must("instance", "list", "-q") }
	// The rule for this cloud counts before that for all.
	if got := names(); got != "gauge\nworker\n" {
		t.Errorf("recorded: %q", got)
	}
	if left := h.notRecorded(); len(left) != 1 || left[0].Name != "other" || valueOf(left[0].Labels)["team"] != "sea" {
		t.Errorf("%+v", left)
	}
	h.must("record-rule", "remove", "-label", "team=field", "-cloud", "main")
	launch("worker-2", map[string]string{"pool": "workers"})
	h.must("cloud", "read", "main")
	if left := h.notRecorded(); len(left) != 1 || names() != "gauge\nworker\n" {
		t.Errorf("%+v, recorded %s", left, names())
	}
	// What is gone is gone, with what was granted.
	if _, err := h.cloudPort().Delete(t.Context(), ours.Id); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is gone", func() bool {
		i, err := h.cloudPort().Instance(t.Context(), ours.Id)
		return err != nil || i.State == cloud.Deleted
	})
	h.must("cloud", "read", "main")
	if got := names(); got != "worker\n" {
		t.Errorf("recorded: %q", got)
	}
	if out := h.must("record-rule", "list"); !strings.Contains(out, "left alone") {
		t.Errorf("%s", out)
	}
}

func TestWhatHasChangedInACloudIsReadBeforeTheRest(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("instance", "launch", "ours", "-image", "debian-12", "-size", "small", "-key", "mine")
	h.must("cloud", "read", "main")
	// The next reading of the schedule reads changes alone.
	due := func() {
		t.Helper()
		h.sql("UPDATE clouds SET read_tried_at = now() - interval '1 hour', read_wanted_at = NULL")
		was := h.inCloud("main").ReadTriedAt
		eventually(t, "the schedule reads it", func() bool {
			c := h.inCloud("main")
			return c.ReadTriedAt.After(*was)
		})
	}
	h.launchedElsewhere(t, "later", "debian-12")
	due()
	if c := h.inCloud("main"); c.ReadFailure != "" || c.ReadSaid.Part == nil || c.ReadSaid.New != 1 || c.NotRecorded != 1 {
		t.Errorf("%+v %+v", c, c.ReadSaid)
	}
	if _, err := h.cloudPort().Stop(t.Context(), h.instance("ours").CloudId); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it stops", func() bool {
		i, err := h.cloudPort().Instance(t.Context(), h.instance("ours").CloudId)
		return err == nil && i.State == cloud.Stopped
	})
	due()
	if i := h.instance("ours"); i.State != apiclient.InstanceStateStopped {
		t.Errorf("it is %s", i.State)
	}
	// A place that the adapter does not know any longer has the whole list read.
	h.sql("UPDATE clouds SET changes_after = '99999999'")
	due()
	if c := h.inCloud("main"); c.ReadFailure != "" || c.ReadSaid.Part != nil || c.ReadSaid.Instances != 2 {
		t.Errorf("%+v %+v", c, c.ReadSaid)
	}
}

func TestConsoleShowsAndChangesKeysOfCloudsRulesAndJumpHosts(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "rescue")
	if _, err := h.cloudPort().AddKeyPair(t.Context(), "north-shore", "found", h.strangersLine(t)); err != nil {
		t.Fatal(err)
	}
	h.must("instance", "launch", "takes", "-image", "ubuntu-24.04", "-size", "small", "-key", "mine", "-steward")
	h.must("instance", "launch", "gate", "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	h.must("cloud", "read", "main")
	p := h.console(t)
	p.open("/settings/clouds/main/keys")
	p.says("not recorded")
	p.press("Record it")
	p.says("nobody is known to have its private key")
	eventually(t, "it is recorded", func() bool { return h.client("key", "show", "found").status == 0 })
	p.press("Publish a key")
	p.fill("Key", "mine")
	p.press("Put it into the catalogue")
	eventually(t, "it is published", func() bool { return len(h.cloudKeys(t)) == 3 })
	h.must("group-key", "add", "rescue", "-group", "project", "-user", "ubuntu", "-yes")
	p.open("/settings/clouds/main/keys")
	p.says("the whole project")
	p.open("/logins/ubuntu@takes")
	p.says("which the cloud main hands to the whole project")

	p.open("/settings/clouds")
	p.says("What is recorded by itself")
	p.press("Add a rule")
	p.fill("For instances with the label, in their cloud", "pool=workers")
	p.press("Add it")
	p.says("are left alone")

	p.open("/instances/takes")
	p.says("straight")
	p.press("Change")
	p.press("by way of a jump host")
	p.fill("Jump host", "gate")
	p.press("Change it")
	eventually(t, "the way is set", func() bool { return h.instance("takes").Connection.Via != nil })
	p.open("/instances/takes")
	p.says("What has happened to it")
	p.says("had takes reached by way of gate")
	p.open("/settings/jump-hosts")
	p.says("1 instance")
	p.press("Add a rule")
	p.fill("Network or label", "10.20.0.0/16")
	p.fill("Jump host", "gate")
	p.press("Add it")
	p.says("in 10.20.0.0/16")
}
