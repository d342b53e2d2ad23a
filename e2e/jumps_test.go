package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cloud"
)

// behindGate launches gate, with a steward key, and behind the service's back another instance, whose firewall lets
// nobody but gate in. The key named mine opens both.
func (h *house) behindGate(t *testing.T, name string) (inner cloud.Instance) {
	t.Helper()
	if h.client("instance", "show", "gate").status != 0 {
		h.must("instance", "launch", "gate", "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	}
	from := h.instance("gate").PrivateAddress + "/32"
	h.adapter(
		"POST",
		"/firewall-rules",
		`{"request_token": "`+name+`", "group": "inner", "source": "`+from+`", "port": 2222}`,
	)
	data := "#cloud-config\nssh_authorized_keys:\n  - " + strings.TrimSpace(read(t, h.private("mine.pub"))) + "\n"
	port := h.cloudPort()
	op, err := port.Launch(t.Context(), cloud.Launch{
		RequestToken: "behind " + name, Name: name, Image: "debian-12", Size: "small", Zone: "north-shore-a", UserData: &data,
		Firewall: new("inner"),
	})
	if op, err = port.Await(t.Context(), op, err); err != nil {
		t.Fatal(err)
	}
	if inner, err = port.Instance(t.Context(), op.Instance); err != nil {
		t.Fatal(err)
	}
	h.must("cloud", "read", "main")
	return inner
}

// sshByConfig logs in with OpenSSH's ssh by the config that the client writes.
func (h *house) sshByConfig(name, command string) (string, error) {
	h.t.Helper()
	h.must("ssh-config")
	config := filepath.Join(h.home(), ".config", "plumlatch", "ssh_config")
	out, err := exec.Command("ssh", "-F", config, "-o", "ConnectTimeout=10", "-n", name, command).CombinedOutput()
	return strings.TrimSpace(string(out)), err
}

func (h *house) whyChecks(t *testing.T, args ...string) (failed string, detail string) {
	t.Helper()
	r := h.client(append([]string{"why", "-json"}, args...)...)
	var checks []struct{ Check, State, Detail string }
	if err := json.Unmarshal([]byte(r.out), &checks); err != nil {
		t.Fatalf("%v: %+v", err, r)
	}
	for _, c := range checks {
		if c.State == "failed" {
			return c.Check, c.Detail
		}
	}
	return "", ""
}

func TestAMachineBehindAJumpHostIsReadChangedRotatedAndGotBackInto(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	inner := h.behindGate(t, "inner")
	if one := h.broughtIn(0, "inner", "-via", "gate")[0]; one.Outcome != "brought-in" ||
		one.Address != inner.PrivateAddress {
		t.Fatalf("%+v", one)
	}
	i := h.instance("inner")
	if out, err := h.ssh(apiclient.Instance{Name: "inner", Connection: apiclient.Connection{
		User: "debian", Address: inner.PublicAddress, Port: 2222, HostKeys: i.Connection.HostKeys,
	}}, "mine", "hostname"); err == nil {
		t.Fatalf("it is reached straight: %s", out)
	}
	if via := *i.Connection.Via; len(via) != 1 || via[0].Instance != "gate" ||
		i.Connection.Address != inner.PrivateAddress {
		t.Errorf("%+v", i.Connection)
	}
	// From here.
	h.must("instance", "steward", "inner", "-with", h.private("mine"), "-yes")
	h.must("grant", "add", "mine", "inner", "-reason", "seen there")
	h.must("sweep", "inner")
	if out, err := h.sshByConfig("inner", "hostname"); err != nil || out != "inner" {
		t.Errorf("ssh by its config: %s %v", out, err)
	}
	command := strings.TrimSpace(h.must("connect", "inner", "-print", "ssh"))
	if out, err := exec.Command("sh", "-c", command+" hostname </dev/null").CombinedOutput(); err != nil ||
		strings.TrimSpace(string(out)) != "inner" {
		t.Errorf("%s\nsays %s %v", command, out, err)
	}
	if failed, detail := h.whyChecks(t, "inner", "-with", h.private("mine")); failed != "" {
		t.Errorf("why: %s: %s", failed, detail)
	}

	// By the service, with the steward keys of both.
	h.must("key", "new", "second")
	h.must("grant", "add", "second", "inner")
	h.must("prove", "debian@inner", "-with", h.private("second"))
	h.must("rotate", "start", "-key", "mine", "-instance", "inner", "-make", "service", "-yes")
	if out := h.must("rotate", "start", "-key", "second", "-instance", "inner", "-yes"); !strings.Contains(out, "1 done") {
		t.Errorf("a rotation whose keys are made here: %s", out)
	}
	if out, err := h.sshByConfig("inner", "whoami"); err != nil || out != "debian" {
		t.Errorf("after the rotation: %s %v", out, err)
	}
	h.must("restore", "start", "inner", "-route", "guest-agent", "-new", "back", "-lost-none", "-yes", "-confirm", "inner")
	if r := h.client("prove", "debian@inner", "-with", h.private("back")); r.status != 0 {
		t.Errorf("after the restore: %+v", r)
	}

	// What the loss of the jump host's key would keep from being reached.
	var loss apiclient.Loss
	if err := json.Unmarshal([]byte(h.must("key", "loss", "mine", "-json")), &loss); err != nil || loss.Behind == nil ||
		len(*loss.Behind) != 1 || (*loss.Behind)[0].JumpHost != "gate" || (*loss.Behind)[0].Names[0] != "inner" {
		t.Errorf("%v: %+v", err, loss.Behind)
	}
}

func TestWhatIsWrongAtAJumpHostIsToldAsWrongThere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.behindGate(t, "inner")
	h.broughtIn(0, "inner", "-via", "gate")
	h.must("instance", "steward", "inner", "-with", h.private("mine"), "-yes")
	reading := func() string {
		t.Helper()
		r := h.client("sweep", "inner", "-json")
		return r.out + r.err
	}
	if said := reading(); strings.Contains(said, "jump host") {
		t.Fatalf("it is not read: %s", said)
	}
	expect := func(what, in string) {
		t.Helper()
		if said := reading(); !strings.Contains(said, "jump host gate") || !strings.Contains(said, in) {
			t.Errorf("%s: a reading says %s", what, said)
		}
		if failed, detail := h.whyChecks(t, "inner", "-with", h.private("mine")); !strings.Contains(failed, "jump hosts") ||
			!strings.Contains(detail, "gate") {
			t.Errorf("%s: why says %q: %s", what, failed, detail)
		}
	}
	gate := h.instance("gate")
	config := filepath.Join(h.disk("gate"), "etc", "ssh", "sshd_config")
	before := []byte(nil)
	if text, err := os.ReadFile(config); err == nil {
		before = text
	}
	if err := os.WriteFile(config, append([]byte("AllowTcpForwarding no\n"), before...), 0o644); err != nil {
		t.Fatal(err)
	}
	expect("no forwarding", "does not forward")
	if err := os.WriteFile(config, before, 0o644); err != nil {
		t.Fatal(err)
	}

	// The jump host shows another host key than the pinned one.
	pinned := gate.Connection.HostKeys
	other := apiclient.PinHostKeys{
		HostKeys: []string{
			strings.TrimSpace(read(t, h.private("mine.pub"))),
		}, Learnt: "a test", Reason: new("to see what happens"),
	}
	pin := func(p apiclient.PinHostKeys) {
		t.Helper()
		if status, answer := h.call("POST", "/api/v1/instances/gate/host-keys", h.token, jsonBody(t, p)); status != 200 {
			t.Fatal(status, answer)
		}
	}
	pin(other)
	expect("another host key", "host key")
	back := apiclient.PinHostKeys{Learnt: "a test", Reason: new("back again")}
	for _, k := range pinned {
		back.HostKeys = append(back.HostKeys, k.PublicKey)
	}
	pin(back)

	h.must("instance", "stop", "gate", "-yes")
	if said := reading(); !strings.Contains(said, "gate is stopped") {
		t.Errorf("the jump host is stopped: a reading says %s", said)
	}
	h.must("instance", "start", "gate")
	if said := reading(); strings.Contains(said, "jump host") {
		t.Errorf("it is not read: %s", said)
	}
}

func TestTheWayIsSetForInstancesLabelsAndNetworksAndNeverGoesRound(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for _, name := range []string{"a", "b", "c", "d", "e", "f"} {
		h.must(
			"instance", "launch", name, "-image", "debian-12", "-size", "small", "-no-key", "-label", "row="+name, "-label",
			"all=yes",
		)
	}
	way := func(name string) string {
		t.Helper()
		var names []string
		if via := h.instance(name).Connection.Via; via != nil {
			for _, hop := range *via {
				names = append(names, hop.Instance)
			}
		}
		return strings.Join(names, " ")
	}
	h.must("jump", "set", "b", "-via", "a")
	h.must("jump", "set", "c", "-via", "b")
	h.must("jump", "set", "d", "-via", "c")
	h.must("jump", "set", "e", "-via", "d")
	if got := way("e"); got != "a b c d" {
		t.Errorf("the way to e is %q", got)
	}
	h.refused("goes-round", "jump", "set", "f", "-via", "e") // five in a row
	h.refused("goes-round", "jump", "set", "a", "-via", "c")
	h.refused("goes-round", "jump", "set", "a", "-via", "a")
	h.refused("no-such-instance", "jump", "set", "a", "-via", "nobody")
	h.refused("goes-round", "jump", "set", "-label", "row=a", "-via", "e")
	if out := h.must("jump", "set", "b", "-via", "a"); !strings.Contains(out, "already") {
		t.Errorf("again: %s", out)
	}
	for _, name := range []string{"b", "c", "d", "e"} {
		h.must("jump", "set", name, "-by-rules")
	}
	h.must("jump", "set", "-label", "all=yes", "-via", "a")
	address := h.instance("c").PrivateAddress
	h.must("jump", "set", "-network", address+"/32", "-via", "b")
	h.must("jump", "set", "d", "-direct")
	for name, want := range map[string]string{"a": "", "b": "a", "c": "a b", "d": "", "e": "a"} {
		if got := way(name); got != want {
			t.Errorf("the way to %s is %q, want %q", name, got, want)
		}
	}
	if out := h.must("instance", "list", "-via", "a", "-q"); out != "b\ne\nf\n" {
		t.Errorf("by way of a: %q", out)
	}
	var all apiclient.Jumps
	if err := json.Unmarshal([]byte(h.must("jump", "list", "-json")), &all); err != nil || len(all.Rules) != 2 ||
		all.Rules[0].Network == nil || len(all.Hosts) != 2 || all.Hosts[0].Behind != 3 {
		t.Errorf("%v %+v", err, all)
	}
	for _, bad := range [][]string{{"-network", "10.0.0.0/99"}, {"-label", "no name"}} {
		if r := h.client(append([]string{"jump", "set", "-via", "a"}, bad...)...); r.status == 0 {
			t.Errorf("%v is taken", bad)
		}
	}
	h.must("jump", "remove", "-label", "all=yes")
	h.refused("no-such-rule", "jump", "remove", "-label", "all=yes")
	if got := way("e"); got != "" {
		t.Errorf("once the rule is gone the way to e is %q", got)
	}

	// Somebody who is limited sets no way by what they may not see, and is not told what it is.
	password := filepath.Join(h.dir, "runa.password")
	if err := os.WriteFile(password, []byte("harbour kittiwake"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("operator", "add", "runa", "-role", "operator", "-limit", "row=c", "-password-file", password)
	token := h.signIn("runa", "harbour kittiwake")
	status, answer := h.call("GET", "/api/v1/instances/c", token, "")
	if status != 200 || strings.Contains(answer, `"b"`) || !strings.Contains(answer, `"hidden":true`) {
		t.Errorf("%d %s", status, answer)
	}
	body := `{"instances": ["c"], "via": "e"}`
	if status, answer := h.call("POST", "/api/v1/jumps", token, body); status != 404 {
		t.Errorf("%d %s", status, answer)
	}
	if status, answer := h.call("PUT", "/api/v1/jump-rules", token, `{"label": "row=c", "via": "c"}`); status != 403 {
		t.Errorf("%d %s", status, answer)
	}
	if status, answer := h.call("DELETE", "/api/v1/jump-rules/"+all.Rules[0].Id.String(), token, ""); status != 403 {
		t.Errorf("%d %s", status, answer)
	}
}

func TestAListTakesUsersHostKeysAndWays(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	inner := h.behindGate(t, "inner")
	h.must("instance", "launch", "plain", "-image", "debian-12", "-size", "small", "-key", "mine")
	plain, gate := h.instance("plain"), h.instance("gate")
	h.must("instance", "launch", "third", "-image", "debian-12", "-size", "small", "-key", "mine")
	third := h.instance("third")
	// Behind our back they are in no record any longer, so that they can be adopted.
	h.sql("UPDATE instances SET gone_at = now(), state = 'deleted' WHERE name IN ('plain', 'third')")
	list := writeFile(t, filepath.Join(t.TempDir(), "machines.csv"), strings.Join([]string{
		"name,address,port,login,host_key,via,team",
		"pier," + plain.PublicAddress + ",2222,debian," + plain.Connection.HostKeys[0].Sha256 + ",,field",
		"pier," + plain.PublicAddress + ",2222,root,,,field",
		"ledge," + third.PublicAddress + ",2222,debian," + gate.Connection.HostKeys[0].Sha256 + ",,field",
		"cave," + inner.PrivateAddress + ",2222,debian,,gate,field",
		"lost," + inner.PrivateAddress + ",2222,debian,,nowhere,field",
		"again," + plain.PublicAddress + ",2222,debian,,,field",
	}, "\n")+"\n")
	r := h.client("instance", "adopt", "-list", list, "-preview")
	if r.status != 3 || h.must("instance", "list", "-q") != "gate\n" || !strings.Contains(r.out, "a login of pier") {
		t.Errorf("%+v", r)
	}
	r = h.client("instance", "adopt", "-list", list, "-yes", "-json", "-with", h.private("mine"))
	var rows []struct{ Name, Outcome string }
	if err := json.Unmarshal([]byte(r.out), &rows); err != nil || r.status != 3 || len(rows) != 6 {
		t.Fatalf("%v %+v", err, r)
	}
	for n, want := range []string{
		"adopted", "a login of pier", "does not show that host key", "adopted", "neither recorded nor in the list",
		"on line 2 already",
	} {
		if !strings.Contains(rows[n].Outcome, want) {
			t.Errorf("line %d, %s: %s, want %s", n+2, rows[n].Name, rows[n].Outcome, want)
		}
	}
	if r := h.client("login", "show", "root@pier"); r.status != 0 {
		t.Errorf("the other user: %+v", r)
	}
	cave := h.instance("cave")
	if cave.Connection.Via == nil || (*cave.Connection.Via)[0].Instance != "gate" {
		t.Errorf("%+v", cave.Connection)
	}
	if learnt := h.instance("pier").Connection.HostKeys[0].Learnt; !strings.Contains(learnt, "expected") {
		t.Errorf("%s", learnt)
	}
	if r := h.client("instance", "adopt", "-list", list, "-yes", "-json"); !strings.Contains(r.out, "already as cave") {
		t.Errorf("again: %+v", r)
	}
}
