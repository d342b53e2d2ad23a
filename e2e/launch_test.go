package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

func (h *house) instance(name string) apiclient.Instance {
	h.t.Helper()
	var i apiclient.Instance
	if err := json.Unmarshal([]byte(h.must("instance", "show", name, "-json")), &i); err != nil {
		h.t.Fatal(err)
	}
	return i
}

// ssh logs in with OpenSSH's own client, which checks the host key against the
// one that the service learnt from the boot output.
func (h *house) ssh(i apiclient.Instance, key, command string) (string, error) {
	h.t.Helper()
	out, err := exec.Command("ssh", h.sshArgs(i, key, command)...).CombinedOutput()
	return strings.TrimSpace(string(out)), err
}

// sshArgs are those by which ssh does that.
func (h *house) sshArgs(i apiclient.Instance, key, command string) []string {
	h.t.Helper()
	c := i.Connection
	known := filepath.Join(h.dir, "known_hosts."+i.Name)
	text := ""
	for _, k := range c.HostKeys {
		host := fmt.Sprintf("[%s]:%d", c.Address, c.Port)
		if c.Port == 22 {
			host = c.Address
		}
		text += host + " " + k.PublicKey + "\n"
	}
	if err := os.WriteFile(known, []byte(text), 0o600); err != nil {
		h.t.Fatal(err)
	}
	return []string{
		"-F", "none", "-i", filepath.Join(h.home(), ".ssh", key), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o",
		"StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile=" + known, "-o", "ConnectTimeout=10", "-p", fmt.Sprint(c.Port),
		c.User + "@" + c.Address, command,
	}
}

func TestAKeyFromKeyNewOpensTheInstanceAndNoOtherDoes(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "disk=50ms,boot=50ms")
	for _, args := range [][]string{
		{"good"},
		{"good-rsa", "-type", "rsa", "-bits", "2048"},
		{"good-ecdsa", "-type", "ecdsa"},
		{"other"},
	} {
		h.must(append([]string{"key", "new"}, args...)...)
	}
	r := h.client(
		"instance", "launch", "tide-1", "-image", "debian-12", "-size", "small", "-key", "good", "-key", "good-rsa",
		"-key", "good-ecdsa", "-reason", "a new pier",
	)
	if r.status != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	for _, step := range []string{"Disk", "Instance", "First boot", "SSH answering"} {
		if !strings.Contains(r.err, step) {
			t.Errorf("the launch does not show the step %s:\n%s", step, r.err)
		}
	}
	i := h.instance("tide-1")
	command := "ssh -i ~/.ssh/good -o IdentitiesOnly=yes -p 2222 debian@" + i.PublicAddress
	for _, want := range []string{command, i.Connection.HostKeys[0].Sha256, "was tried from here and completed"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("the end of the launch does not say %q:\n%s", want, r.out)
		}
	}
	for _, key := range []string{"good", "good-rsa", "good-ecdsa"} {
		if out, err := h.ssh(i, key, "whoami; hostname"); err != nil || out != "debian\ntide-1" {
			t.Errorf("ssh with %s: %q, %v", key, out, err)
		}
	}
	if out, err := h.ssh(i, "other", "whoami"); err == nil || !strings.Contains(out, "Permission denied (publickey)") {
		t.Errorf("ssh with another key: %q, %v", out, err)
	}
	if out := h.openers("tide-1", "-q"); out != "good\ngood-ecdsa\ngood-rsa\n" {
		t.Errorf("openers: %q", out)
	}
	if out := h.must("opens", "good", "-q"); out != "debian@tide-1\n" {
		t.Errorf("opens: %q", out)
	}
	var openings []apiclient.Opening
	if err := json.Unmarshal([]byte(h.must("opens", "good", "-json")), &openings); err != nil ||
		openings[0].Status != apiclient.StatusInPlace ||
		*openings[0].Reason != "a new pier" {
		t.Errorf("%+v, %v", openings, err)
	}
	if out := h.must("opens", "other"); !strings.Contains(out, "other opens nothing") {
		t.Errorf("opens of a key that opens nothing: %q", out)
	}
	for _, e := range h.told("instance.launch", "instance.launched") {
		if e.Person != "ines" || e.Subject != "tide-1" || *e.Why != "a new pier" {
			t.Errorf("the daybook says: %+v", e)
		}
	}
}

func TestKeyDeleteRefusesWhileGrantedAndListsWhere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "one", "-image", "debian-12", "-size", "small", "-new", "key-a")
	h.must("instance", "launch", "two", "-image", "alpine-3.22", "-size", "small", "-key", "key-a")
	where := h.refused("key-granted", "key", "delete", "key-a", "-yes").Where
	if where == nil || !slices.Contains(*where, "debian@one") || !slices.Contains(*where, "root@two") {
		t.Errorf("the key opens %v", where)
	}
	h.must("instance", "delete", "one", "-yes")
	h.must("instance", "delete", "two", "-yes")
	h.must("key", "delete", "key-a", "-yes")
	h.refused("no-such-key", "key", "show", "key-a")
	if e := h.told("key.delete:refused")[0]; e.Outcome != "refused" || e.Action != "key.delete" {
		t.Errorf("the refused delete: %+v", e)
	}
}

func TestLaunchWithoutAKeyMustBeSaidAndLetsNobodyIn(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	if r := h.client("instance", "launch", "bare", "-image", "debian-12", "-size", "small"); r.status != 2 ||
		!strings.Contains(r.err, "nobody would be able to log in") {
		t.Errorf("without -no-key: %d %s", r.status, r.err)
	}
	if out := h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-no-key"); !strings.Contains(
		out, "nobody can log in",
	) {
		t.Errorf("with -no-key: %s", out)
	}
	h.must("key", "new", "any")
	if out, err := h.ssh(h.instance("bare"), "any", "whoami"); err == nil {
		t.Errorf("somebody got in: %s", out)
	}
}

func TestLaunchRefusesBadInputAndRecordsNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "k")
	for name, c := range map[string]struct {
		body map[string]any
		code string
		says string
	}{
		"image":        {map[string]any{"image": "beos-5"}, "no-such-image", "debian-12"},
		"size":         {map[string]any{"size": "enormous"}, "no-such-size", "large-scratch"},
		"zone":         {map[string]any{"zone": "moon-a"}, "no-such-zone", "south-marsh-a"},
		"key":          {map[string]any{"keys": []string{"nope"}}, "no-such-key", "nope"},
		"name":         {map[string]any{"name": "two\nlines"}, "bad-name", "two-lines"},
		"no key":       {map[string]any{"keys": []string{}}, "no-key", "-no-key"},
		"both":         {map[string]any{"no_key": true}, "no-key", "one or the other"},
		"windows":      {map[string]any{"image": "windows-2022"}, "key-type-not-taken", "rsa"},
		"label":        {map[string]any{"labels": map[string]string{"Team!": "x"}}, "bad-label", "team"},
		"strange":      {map[string]any{"colour": "red"}, "bad-json", "colour"},
		"reason lines": {map[string]any{"reason": "a\x1b[2Jb"}, "bad-text", "control character"},
	} {
		body := map[string]any{"name": "x", "image": "debian-12", "size": "small", "keys": []string{"k"}}
		for k, v := range c.body {
			body[k] = v
		}
		status, answer := h.call("POST", "/api/v1/instances", h.token, jsonBody(t, body))
		if status != 422 || !strings.Contains(answer, `"code":"`+c.code+`"`) || !strings.Contains(answer, c.says) {
			t.Errorf("%s: %d %s", name, status, answer)
		}
	}
	if out := h.must("instance", "list", "-q") + h.must("run", "list", "-q"); out != "" {
		t.Errorf("something was recorded: %s", out)
	}
}

func TestTwoLaunchesWithOneNameAtOnceOneWinsTheOtherIsTold(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "disk=100ms")
	h.must("key", "new", "k")
	const tries = 8
	errs := make([]error, tries)
	var wait sync.WaitGroup
	for n := range tries {
		wait.Go(func() {
			_, errs[n] = kit.AnswerBytes(h.api(h.token).LaunchInstance(
				t.Context(), nil,
				apiclient.LaunchInstance{Name: "same", Image: "debian-12", Size: "small", Keys: &[]string{"k"}},
			))
		})
	}
	wait.Wait()
	won := 0
	for _, err := range errs {
		var no *kit.ApiclientError
		switch {
		case err == nil:
			won++
		case !errors.As(err, &no) || no.Code != "name-taken":
			t.Errorf("a launch that lost: %v, want name-taken", err)
		}
	}
	if won != 1 {
		t.Errorf("%d launches won, want 1: %v", won, errs)
	}
}

func TestALaunchSentTwiceIsOneLaunch(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "k")
	key := "launch-1"
	var ids []string
	for range 2 {
		launched, err := kit.Answer[apiclient.Launched](h.api(h.token).LaunchInstance(
			t.Context(), &apiclient.LaunchInstanceParams{IdempotencyKey: &key},
			apiclient.LaunchInstance{Name: "once", Image: "debian-12", Size: "small", Keys: &[]string{"k"}},
		))
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, launched.Run.Id.String())
	}
	if ids[0] != ids[1] {
		t.Errorf("two runs: %v", ids)
	}
}

func TestAStopCostsTheAddressUnlessStaticAndTheHostKeyStays(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "moves", "-image", "debian-12", "-size", "large-scratch", "-new", "k")
	h.must("instance", "launch", "stays", "-image", "debian-12", "-size", "small", "-key", "k", "-static-address")
	if r := h.client("instance", "stop", "moves"); r.status != 2 || !strings.Contains(r.err, "is given back") ||
		!strings.Contains(r.err, "200 GiB") {
		t.Errorf("the costs are not told: %d %s", r.status, r.err)
	}
	before := map[string]apiclient.Instance{"moves": h.instance("moves"), "stays": h.instance("stays")}
	for name := range before {
		h.must("instance", "stop", name, "-yes")
		h.refused("wrong-state", "instance", "stop", name, "-yes")
		if out, err := h.ssh(before[name], "k", "whoami"); err == nil {
			t.Errorf("%s lets in while it is stopped: %s", name, out)
		}
		h.must("instance", "start", name)
	}
	if a := h.instance("moves").PublicAddress; a == before["moves"].PublicAddress || a == "" {
		t.Errorf("the address is still %s", a)
	}
	if a := h.instance("stays").PublicAddress; a != before["stays"].PublicAddress {
		t.Errorf("the static address changed to %s", a)
	}
	if out, err := h.ssh(h.instance("moves"), "k", "hostname"); err != nil || out != "moves" {
		t.Errorf("after the start: %s, %v", out, err)
	}
}

// TestKilledInMidLaunchItFinishes kills the service in each step of a launch.
func TestKilledInMidLaunchItFinishes(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "disk=300ms,instance=300ms,boot=300ms")
	h.must("key", "new", "k")
	for n, step := range []string{"disk", "instance", "boot", "ssh"} {
		name := fmt.Sprintf("cut-%d", n)
		id := strings.TrimSpace(
			h.must("instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "k", "-no-wait", "-q"),
		)
		eventually(t, step+" has begun", func() bool {
			_, body := h.call("GET", "/api/v1/runs/"+id, h.token, "")
			var run apiclient.Run
			if err := json.Unmarshal([]byte(body), &run); err != nil {
				t.Fatal(err)
			}
			return run.Steps[n].StartedAt != nil
		})
		listen := h.listen()
		h.service.kill(t)
		h.startService(listen)
		if r := h.client("run", "watch", id); r.status != 0 {
			t.Fatalf("killed in %s, the launch ends with status %d: %s%s", step, r.status, r.out, r.err)
		}
		if out, err := h.ssh(h.instance(name), "k", "hostname"); err != nil || out != name {
			t.Errorf("killed in %s: ssh says %s, %v", step, out, err)
		}
		if e := h.told("instance.launched")[0]; e.Subject != name {
			t.Errorf("killed in %s, the end of the launch is not in the daybook, but that of %s", step, e.Subject)
		}
	}
	if n := h.cloudInstances(); n != 4 {
		t.Errorf("the cloud has %d instances for 4 launches", n)
	}
}

// cloudInstances counts what the cloud has that is not gone, by the cloud's own word.
func (h *house) cloudInstances() int {
	h.t.Helper()
	r, err := http.NewRequest("GET", h.cloudURL+"/v1/instances", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer cloud-token")
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer resp.Body.Close()
	var all []struct{ State string }
	if err := json.NewDecoder(resp.Body).Decode(&all); err != nil {
		h.t.Fatal(err)
	}
	n := 0
	for _, i := range all {
		if i.State != "deleted" {
			n++
		}
	}
	return n
}

// TestALaunchThatFailsIsUndoneAndTold has somebody else sit on the address that
// the instance is to get, so that it cannot boot.
func TestALaunchThatFailsIsUndoneAndTold(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "disk=300ms")
	h.must("key", "new", "k")
	block, err := os.ReadFile(filepath.Join(h.dir, "block"))
	if err != nil {
		t.Fatal(err)
	}
	first := strings.TrimSuffix(string(block), "0/24") + "1:2222"
	l, err := net.Listen("tcp4", first)
	if err != nil {
		t.Fatal(err)
	}
	r := h.client("instance", "launch", "doomed", "-image", "debian-12", "-size", "small", "-key", "k")
	if r.status != 1 || !strings.Contains(r.err, "address already in use") {
		t.Errorf("status %d: %s", r.status, r.err)
	}
	l.Close()
	if n := h.cloudInstances(); n != 0 {
		t.Errorf("the cloud still has %d instances", n)
	}
	if out := h.must("instance", "list", "-q"); out != "" {
		t.Errorf("still listed: %s", out)
	}
	h.told("instance.launched:undone")
	h.must("key", "delete", "k", "-yes") // its grant went with the launch
	h.must("instance", "launch", "doomed", "-image", "debian-12", "-size", "small", "-new", "k2")
}

func TestAStoppedCloudIsToldAndNothingIsHalfRecorded(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "disk=1s")
	h.must("key", "new", "k")
	id := strings.TrimSpace(
		h.must("instance", "launch", "waits", "-image", "debian-12", "-size", "small", "-key", "k", "-no-wait", "-q"),
	)
	eventually(t, "the cloud has begun", func() bool { return h.cloudInstances() == 1 })
	h.cloud.kill(t)
	h.refused("cloud-unreachable", "instance", "launch", "later", "-image", "debian-12", "-size", "small", "-key", "k")
	if out := h.must("instance", "list", "-q"); out != "waits\n" {
		t.Errorf("listed: %q", out)
	}
	if out := h.openers("waits", "-q"); out != "k\n" { // what needs no cloud still answers
		t.Errorf("openers: %q", out)
	}
	h.startCloud("disk=1s")
	if r := h.client("run", "watch", id); r.status != 0 {
		t.Errorf("the launch that waited: %d %s", r.status, r.err)
	}
}

func TestADatabaseThatStopsIsToldAndTheServiceRecovers(t *testing.T) {
	t.Parallel() // it waits more than it works
	server := startDatabase(t)
	h := server.house(t, "disk=200ms")
	h.must("key", "new", "k")
	id := strings.TrimSpace(
		h.must("instance", "launch", "through", "-image", "debian-12", "-size", "small", "-key", "k", "-no-wait", "-q"),
	)
	server.stop(t)
	status, body := h.call("GET", "/api/v1/keys", h.token, "")
	if status != http.StatusServiceUnavailable || !strings.Contains(body, `"code":"database-unavailable"`) {
		t.Errorf("without its database: %d %s", status, body)
	}
	if status, _ := h.call("GET", "/readyz", "", ""); status != http.StatusServiceUnavailable {
		t.Errorf("/readyz: %d", status)
	}
	if status, _ := h.call("GET", "/healthz", "", ""); status != http.StatusOK {
		t.Errorf("/healthz: %d", status)
	}
	h.refused("database-unavailable", "key", "list")
	server.start(t)
	eventually(t, "the service is ready again", func() bool {
		status, _ := h.call("GET", "/readyz", "", "")
		return status == http.StatusOK
	})
	if r := h.client("run", "watch", id); r.status != 0 {
		t.Errorf("the launch that was cut off: %d %s", r.status, r.err)
	}
}

func TestRunEventsGoOnFromTheLastEventSeen(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "disk=1s")
	id := strings.TrimSpace(
		h.must("instance", "launch", "seen", "-image", "debian-12", "-size", "small", "-no-key", "-no-wait", "-q"),
	)
	events := func(last string) string {
		r, err := http.NewRequest("GET", h.url+"/api/v1/runs/"+id+"/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+h.token)
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		resp, err := (&http.Client{Timeout: 20 * time.Second}).Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var b strings.Builder
		buffer := make([]byte, 4096)
		for {
			n, err := resp.Body.Read(buffer)
			b.Write(buffer[:n])
			if err != nil {
				return b.String()
			}
		}
	}
	whole := events("")
	ids := strings.Count(whole, "\nid: ") + 1
	if ids < 3 || !strings.Contains(whole, `"state":"done"`) {
		t.Errorf("%d events: %s", ids, whole)
	}
	last := whole[strings.LastIndex(whole, "id: ")+4:]
	last, _, _ = strings.Cut(last, "\n")
	if again := events(last); again != "" {
		t.Errorf("after the last event there came %q", again)
	}
}

func TestAShortRSAKeyIsNotGrantedUnlessASettingAllowsIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	sshKeygen(t, h.dir, "short", "-t", "rsa", "-b", "1024", "-N", "")
	if out := h.must("key", "import", "short", "-from", filepath.Join(h.dir, "short.pub")); !strings.Contains(
		out, "fewer than 2048",
	) {
		t.Errorf("the import does not warn:\n%s", out)
	}
	launch := []string{"instance", "launch", "one", "-image", "debian-12", "-size", "small", "-key", "short"}
	h.refused("key-too-weak", launch...)
	if err := h.service.Stop(10 * time.Second); err != nil {
		t.Fatal(err)
	}
	h.startService(h.listen(), "-allow-short-rsa")
	h.must(launch...)
}
