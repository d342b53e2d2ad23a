package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cloud"
	"plumlatch/internal/sshio/sshdtest"
)

// cloudBeside starts another stand-in cloud that lacks some capabilities, and returns where it is and a file with its
// token.
func (h *house) cloudBeside(without string) (at, tokenFile string) {
	h.t.Helper()
	dir := h.t.TempDir()
	tokenFile = filepath.Join(dir, "token")
	if err := os.WriteFile(tokenFile, []byte("another-token\n"), 0o600); err != nil {
		h.t.Fatal(err)
	}
	n := firstBlock + blocks.Add(1)
	p := start(
		h.t, "paddockd", "-data", filepath.Join(dir, "paddock"), "-token-file", tokenFile, "-without", without,
		"-block", fmt.Sprintf("127.%d.%d.0/24", 100+n/256%100, n%256), "-listen", "127.0.0.1:0",
	)
	return p.await(h.t, `(http://\S+)`), tokenFile
}

func (h *house) clouds() (list []apiclient.Cloud) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("cloud", "list", "-json")), &list); err != nil {
		h.t.Fatal(err)
	}
	return list
}

func (h *house) inCloud(name string) apiclient.Cloud {
	h.t.Helper()
	for _, c := range h.clouds() {
		if c.Name == name {
			return c
		}
	}
	h.t.Fatalf("there is no cloud %s: %+v", name, h.clouds())
	return apiclient.Cloud{}
}

func TestSeveralCloudsAreAddedUsedPausedAndForgotten(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	at, tokenFile := h.cloudBeside("snapshots,browser-shell")
	wrong := filepath.Join(t.TempDir(), "wrong")
	if err := os.WriteFile(wrong, []byte("guessed"), 0o600); err != nil {
		t.Fatal(err)
	}
	add := []string{"cloud", "add", "south-marsh", "-adapter", at, "-adapter-token-file"}
	h.refused("cloud-refused", append(add, wrong)...)
	h.refused(
		"cloud-unreachable",
		"cloud",
		"add",
		"nowhere",
		"-adapter",
		"http://127.0.0.1:9",
		"-adapter-token-file",
		wrong,
	)
	for _, bad := range []string{
		"ftp://127.0.0.1", "127.0.0.1:80", "http://192.0.2.7", "https://u:p@a.example", at + "?x=1",
	} {
		h.refused("bad-adapter", "cloud", "add", "bad", "-adapter", bad, "-adapter-token-file", wrong)
	}
	h.must(append(add, tokenFile)...)
	if again := h.client(append(add, tokenFile)...); again.status != 0 {
		t.Errorf("again: %+v", again)
	}
	h.refused("adapter-taken", "cloud", "add", "twin", "-adapter", at, "-adapter-token-file", tokenFile)
	h.refused("adapter-taken", "cloud", "add", "twin", "-adapter", h.cloudURL, "-adapter-token-file", h.tokenFile())
	h.refused("name-taken", "cloud", "add", "main", "-adapter", at+"/", "-adapter-token-file", tokenFile)
	marsh := h.inCloud("south-marsh")
	if len(h.clouds()) != 2 || slices.Contains(marsh.Capabilities, "snapshots") || len(marsh.Zones) == 0 ||
		marsh.LatencyMs == 0 || marsh.Failure != "" || !h.clouds()[0].Given {
		t.Errorf("%+v", h.clouds())
	}
	if n := h.count("clouds WHERE position('another-token' IN clouds::text) > 0"); n != 0 {
		t.Error("the token is in the database")
	}

	h.must("instance", "launch", "gauge", "-cloud", "south-marsh", "-image", "debian-12", "-size", "small", "-new", "mine")
	h.must("instance", "launch", "mast", "-image", "debian-12", "-size", "small", "-key", "mine")
	for name, in := range map[string]string{"gauge": "south-marsh", "mast": "main"} {
		i := h.instance(name)
		if out, err := h.ssh(i, "mine", "hostname"); i.Cloud != in || err != nil || out != name {
			t.Errorf("%s is in %q, want %q: %s %v", name, i.Cloud, in, out, err)
		}
	}
	if out := h.must("instance", "list", "-cloud", "south-marsh", "-q"); out != "gauge\n" {
		t.Errorf("in south-marsh: %q", out)
	}

	h.must("cloud", "pause", "south-marsh", "-reason", "it moves")
	h.refused(
		"cloud-paused",
		"instance",
		"launch",
		"late",
		"-cloud",
		"south-marsh",
		"-image",
		"debian-12",
		"-size",
		"small",
		"-key",
		"mine",
	)
	h.refused("cloud-paused", "cloud", "read", "south-marsh")
	if out, err := h.ssh(h.instance("gauge"), "mine", "hostname"); err != nil || out != "gauge" {
		t.Errorf("while its cloud is paused: %s %v", out, err)
	}
	h.must("cloud", "resume", "south-marsh")

	// The safe gets another key; the token opens the adapter still.
	h.must("safe", "new-key")
	if c := h.client("cloud", "check", "south-marsh"); c.status != 0 {
		t.Errorf("after another safe key: %+v", c)
	}

	port, err := cloud.Connect(at, "another-token", cloud.CallTimeout)
	if err != nil {
		t.Fatal(err)
	}
	fault := cloud.Fault{Call: "stopInstance", Kind: "fail", Times: new(1000)}
	if err := port.ScheduleFault(t.Context(), fault); err != nil {
		t.Fatal(err)
	}
	h.must("instance", "stop", "gauge", "-yes", "-no-wait")
	h.refused("cloud-in-use", "cloud", "forget", "south-marsh", "-yes")
	if err := port.ClearFaults(t.Context()); err != nil {
		t.Fatal(err)
	}
	eventually(t, "gauge is stopped", func() bool { return h.instance("gauge").State == "stopped" })
	h.refused("cloud-given", "cloud", "forget", "main", "-yes")
	eventually(t, "it is forgotten", func() bool {
		return h.client("cloud", "forget", "south-marsh", "-yes", "-reason", "given up").status == 0
	})
	if i := h.instance("gauge"); !i.Adopted || i.Cloud != "" {
		t.Errorf("after its cloud was forgotten: %+v", i)
	}
	if r := h.client("restore", "routes", "gauge", "-json"); strings.Contains(r.out, `"helper-disk","possible":true`) {
		t.Errorf("a way back by a cloud that is forgotten: %s", r.out)
	}
	h.told("cloud.add", "cloud.pause", "cloud.resume", "cloud.forget")
}

// count counts rows of the database.
func (h *house) count(from string) (n int) {
	h.t.Helper()
	conn, err := pgx.Connect(h.t.Context(), h.owner)
	if err != nil {
		h.t.Fatal(err)
	}
	defer conn.Close(h.t.Context())
	if err := conn.QueryRow(h.t.Context(), "SELECT count(*) FROM "+from).Scan(&n); err != nil {
		h.t.Fatal(err)
	}
	return n
}

// launchedElsewhere launches an instance behind the service's back, which the key named mine opens.
func (h *house) launchedElsewhere(t *testing.T, name, image string) cloud.Instance {
	t.Helper()
	port, line := h.cloudPort(), strings.TrimSpace(read(t, h.private("mine.pub")))
	data := "#cloud-config\nssh_authorized_keys:\n  - " + line + "\n"
	label := "made-elsewhere"
	op, err := port.Launch(t.Context(), cloud.Launch{
		RequestToken: "elsewhere " + name + image + fmt.Sprint(
			time.Now().UnixNano(),
		), Name: name, Image: image, Size: "small",
		Zone: "north-shore-a", UserData: &data, KeyLabel: &label,
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

func (h *house) notRecorded() (list []apiclient.CloudInstance) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("cloud", "instances", "-not-recorded", "-json", "-all")), &list); err != nil {
		h.t.Fatal(err)
	}
	return list
}

func (h *house) broughtIn(status int, args ...string) (list []apiclient.BroughtIn) {
	h.t.Helper()
	r := h.client(append([]string{"instance", "bring-in", "-yes", "-json"}, args...)...)
	if err := json.Unmarshal([]byte(r.out), &list); err != nil || r.status != status {
		h.t.Fatalf("%v: %v, status %d, want %d\n%s%s", args, err, r.status, status, r.out, r.err)
	}
	return list
}

func TestWhatRunsInACloudIsFoundBroughtInAndGotBackInto(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("instance", "launch", "ours", "-image", "debian-12", "-size", "small", "-key", "mine")
	gauge := h.launchedElsewhere(t, "Gauge North", "debian-12")
	h.launchedElsewhere(t, "ours", "debian-12")
	h.launchedElsewhere(t, "twin", "debian-12")
	h.launchedElsewhere(t, "twin", "debian-12")
	bare := h.launchedElsewhere(t, "???", "debian-12")
	h.must("cloud", "read", "main")
	if c := h.inCloud("main"); c.NotRecorded != 5 || c.ReadSaid == nil || c.ReadSaid.Instances != 6 {
		t.Fatalf("%+v", c)
	}
	for _, i := range h.notRecorded() {
		if i.KeyLabel != "made-elsewhere" || i.LaunchedAt == nil || i.PublicAddress == "" || i.RecordedAs != "" {
			t.Errorf("%+v", i)
		}
	}
	if one := h.broughtIn(3, "twin")[0]; one.Outcome != "left-out" || one.Problem.Code != "several-instances" {
		t.Errorf("one of two of a name: %+v", one)
	}
	if one := h.broughtIn(3, "no-such")[0]; one.Problem == nil || one.Problem.Code != "no-such-instance" {
		t.Errorf("%+v", one)
	}
	if one := h.broughtIn(3, "Gauge North", "-host-key", "SHA256:"+strings.Repeat("A", 43))[0]; one.Problem == nil ||
		one.Problem.Code != "not-the-expected" {
		t.Errorf("another host key than the expected: %+v", one)
	}
	if r := h.client("instance", "bring-in", "Gauge North"); r.status != 2 || len(h.notRecorded()) != 5 {
		t.Errorf("before it was confirmed: %+v", r)
	}
	one := h.broughtIn(0, "Gauge North", "-label", "team=field")[0]
	if one.Outcome != "brought-in" || one.Name != "gauge-north" || one.Login != "debian@gauge-north" ||
		one.Learnt != "cloud boot output" || one.CloudId != gauge.Id {
		t.Errorf("%+v", one)
	}
	if one := h.broughtIn(0, gauge.Id)[0]; one.Outcome != "was-there" {
		t.Errorf("again: %+v", one)
	}
	all := h.broughtIn(0, "-all")
	var names []string
	for _, o := range all {
		names = append(names, o.Name)
	}
	if len(all) != 4 || len(h.notRecorded()) != 0 || !slices.Contains(names, bare.Id) {
		t.Errorf("all: %v, and %d are left", names, len(h.notRecorded()))
	}
	for _, name := range append(names, "gauge-north") {
		i := h.instance(name)
		if out, err := h.ssh(i, "mine", "whoami"); err != nil || out != "debian" || i.Adopted || i.Cloud != "main" {
			t.Errorf("%s: %s %v %+v", name, out, err, i)
		}
	}

	// Its keys are lost: every way back in that a launched one has.
	for route, name := range map[string]string{"guest-agent": "gauge-north", "helper-disk": names[0]} {
		h.must("restore", "start", name, "-route", route, "-new", "back-by-"+route, "-lost-none", "-yes", "-confirm", name)
		i := h.instance(name)
		if out, err := h.ssh(i, "back-by-"+route, "whoami"); err != nil || out != "debian" {
			t.Errorf("%s by %s: %s %v", name, route, out, err)
		}
	}
	// It is let go: it runs on, and is not recorded.
	h.must("instance", "release", "gauge-north", "-yes")
	if left := h.notRecorded(); len(left) != 1 || left[0].CloudId != gauge.Id {
		t.Errorf("after it was released: %+v", left)
	}
}

func TestWhatHappensInACloudBehindTheServicesBackIsTold(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	for _, name := range []string{"goes", "moves", "stays"} {
		h.must("instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "mine")
	}
	h.must("cloud", "read", "main")
	port, was := h.cloudPort(), h.instance("moves")
	for _, do := range []func() (cloud.Operation, error){
		func() (cloud.Operation, error) { return port.Delete(t.Context(), h.instance("goes").CloudId) },
		func() (cloud.Operation, error) { return port.Stop(t.Context(), was.CloudId) },
		func() (cloud.Operation, error) { return port.Start(t.Context(), was.CloudId) },
	} {
		op, err := do()
		if _, err := port.Await(t.Context(), op, err); err != nil {
			t.Fatal(err)
		}
	}
	h.must("cloud", "read", "main")
	if r := h.client("instance", "show", "goes"); r.status != 4 {
		t.Errorf("what is gone is there: %+v", r)
	}
	for _, g := range first(h.grants("-key", "mine")) {
		if strings.Contains(g.Login, "goes") {
			t.Errorf("a grant of what is gone: %+v", g)
		}
	}
	now := h.instance("moves")
	if now.PublicAddress == was.PublicAddress || now.State != "running" {
		t.Errorf("it is at %s, as before", now.PublicAddress)
	}
	if out, err := h.ssh(now, "mine", "hostname"); err != nil || out != "moves" {
		t.Errorf("at its new address: %s %v", out, err)
	}
	h.must("cloud", "read", "main")
	for _, name := range []string{"instance.gone", "instance.changed"} {
		if n := h.toldOften(name); n != 1 {
			t.Errorf("the daybook tells of %s %d times, want once", name, n)
		}
	}
}

func first[T any](list []T, _ int) []T { return list }

// spoilt is an adapter before the house's cloud that can be made to answer wrongly.
type spoilt struct {
	how atomic.Value // a func(http.ResponseWriter, *http.Request) that answers, or returns false
}

func (h *house) spoilt() (*spoilt, string) {
	h.t.Helper()
	target, err := url.Parse(h.cloudURL)
	if err != nil {
		h.t.Fatal(err)
	}
	s, through := &spoilt{}, httputil.NewSingleHostReverseProxy(target)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if how, ok := s.how.Load().(func(http.ResponseWriter, *http.Request) bool); ok && how(w, r) {
			return
		}
		through.ServeHTTP(w, r)
	}))
	h.t.Cleanup(server.Close)
	return s, server.URL
}

func TestAnAdapterThatAnswersWronglyChangesNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	s, at := h.spoilt()
	h.must("cloud", "add", "odd", "-adapter", at, "-adapter-token-file", h.tokenFile())
	var ids []string
	for _, name := range []string{"one", "two", "three"} {
		ids = append(ids, h.launchedElsewhere(t, name, "debian-12").Id)
	}
	h.must("cloud", "read", "odd")
	h.broughtIn(0, "-cloud", "odd", "one", "two")
	list := func(answer func(after string) string) func(http.ResponseWriter, *http.Request) bool {
		return func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != "/v1/instances" || r.Method != http.MethodGet {
				return false
			}
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, answer(r.URL.Query().Get("after")))
			return true
		}
	}
	one := func(id, state string) string {
		return fmt.Sprintf(`{"id": %q, "name": "x", "state": %q, "image": "debian-12", "size": "small", "zone": "z",
			"region": "r", "ssh_port": 22, "private_address": "", "public_address": "", "static_address": false,
			"key_label": "", "firewall": ""}`, id, state)
	}
	told := func(path, answer string) func(http.ResponseWriter, *http.Request) bool {
		return func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != path {
				return false
			}
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, answer)
			return true
		}
	}
	for name, how := range map[string]func(http.ResponseWriter, *http.Request) bool{
		"the list is empty": list(func(string) string { return "[]" }),
		"the list is half": list(func(after string) string {
			return map[bool]string{true: "[" + one(ids[0], "running") + "]", false: "[]"}[after == ""]
		}),
		"the pages never end": list(func(string) string { return "[" + one("i-1", "running") + "]" }),
		"there is no such state": list(func(after string) string {
			return map[bool]string{true: "[" + one("i-1", "on fire") + "]", false: "[]"}[after == ""]
		}),
		"it tells that one is gone which it knows": told("/v1/instance-changes", fmt.Sprintf(
			`{"instances": [%s], "next": "9", "more": false}`, one(ids[0], "deleted"),
		)),
		"the changes never end": told("/v1/instance-changes", fmt.Sprintf(
			`{"instances": [%s], "next": "9", "more": true}`, one(ids[0], "running"),
		)),
		"a place is a whole book": told(
			"/v1/instance-changes", `{"instances": [], "more": false, "next": "`+strings.Repeat("9", 90_000)+`"}`,
		),
		"a group is of no kind": told("/v1/key-groups", `[{"id": "a", "name": "a", "kind": "flock", "keys": []}]`),
		"a group is there twice": told(
			"/v1/key-groups", `[{"id": "a", "name": "a", "kind": "zone", "keys": []},
				{"id": "a", "name": "b", "kind": "zone", "keys": []}]`,
		),
		"a group's key cannot be read": told(
			"/v1/key-groups",
			`[{"id": "a", "name": "a", "kind": "zone", "keys": [{"user": "root", "line": "ssh-ed25519 AAAA"}]}]`,
		),
		"it is no JSON": list(func(string) string { return "<html>" }),
		"an id is a whole book": list(func(string) string {
			return "[" + one(strings.Repeat("i", 90_000), "running") + "]"
		}),
		"it says that it is lost": func(w http.ResponseWriter, _ *http.Request) bool {
			w.WriteHeader(http.StatusBadGateway)
			return true
		},
		"it takes longer than anybody waits": func(_ http.ResponseWriter, r *http.Request) bool {
			select {
			case <-r.Context().Done():
			case <-time.After(time.Minute):
			}
			return true
		},
		"it dies in the middle": func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Query().Get("after") != "" {
				panic(http.ErrAbortHandler)
			}
			return false
		},
	} {
		t.Run(name, func(t *testing.T) {
			h := h.in(t)
			s.how.Store(how)
			r := h.client("cloud", "read", "odd")
			if c := h.inCloud("odd"); r.status != 7 || c.ReadFailure == "" || c.Instances != 2 || c.NotRecorded != 4-3 {
				t.Errorf("status %d, want 7; %+v", r.status, c)
			}
			for _, name := range []string{"one", "two"} {
				if i := h.instance(name); i.State != "running" {
					t.Errorf("%s is %s", name, i.State)
				}
			}
		})
	}
	s.how.Store(func(w http.ResponseWriter, r *http.Request) bool { // another's instance
		if !strings.HasSuffix(r.URL.Path, ids[2]) {
			return false
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, one(ids[0], "running"))
		return true
	})
	if one := h.broughtIn(3, "-cloud", "odd", ids[2])[0]; one.Problem == nil || one.Problem.Code != "bad-answer" {
		t.Errorf("another's instance: %+v", one)
	}
	// Its clock is a day ahead, and once it was a day behind: that is no reason to leave anything out.
	for _, off := range []time.Duration{24 * time.Hour, -24 * time.Hour} {
		s.how.Store(told("/v1/instance-changes", fmt.Sprintf(
			`{"instances": [%s], "next": "9", "more": false}`, strings.Replace(
				one(ids[2], "stopped"), "{", fmt.Sprintf(`{"launched_at": %q, `, time.Now().Add(off).Format(time.RFC3339)), 1,
			),
		)))
		h.must("cloud", "read", "odd")
		if c := h.inCloud("odd"); c.ReadFailure != "" || c.NotRecorded != 1 {
			t.Errorf("with a clock that is %v off: %+v", off, c)
		}
	}
	s.how.Store(func(http.ResponseWriter, *http.Request) bool { return false })
	h.must("cloud", "read", "odd")
	if c := h.inCloud("odd"); c.ReadFailure != "" || c.NotRecorded != 1 {
		t.Errorf("once it is right again: %+v", c)
	}
	h.broughtIn(0, "-cloud", "odd", ids[2])
}

func TestAnAdoptedMachineBecomesTheCloudsInstanceThatItIs(t *testing.T) {
	t.Parallel()
	server := sshdtest.StartConfined(t)
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	there := h.launchedElsewhere(t, "gate", "debian-12")
	h.must("instance", "adopt", "old-gate", "-address", there.PublicAddress, "-port", fmt.Sprint(there.SshPort), "-login",
		"debian", "-with", h.private("mine"), "-yes")
	h.must("grant", "add", "mine", "debian@old-gate", "-with", h.private("mine"))
	h.must("cloud", "read", "main")
	one := h.broughtIn(0, "gate")[0]
	i := h.instance("old-gate")
	if one.Outcome != "joined" || one.Name != "old-gate" || i.Adopted || i.CloudId != there.Id || i.Cloud != "main" ||
		i.Image != "debian-12" {
		t.Errorf("%+v %+v", one, i)
	}
	if len(first(h.grants("-login", "debian@old-gate"))) == 0 || h.toldOften("instance.adopt") != 1 {
		t.Error("its grants or its history are gone")
	}
	// One with the cloud's address and another host key is not the same machine.
	h.must("instance", "release", "old-gate", "-yes")
	h.sql(
		fmt.Sprintf("UPDATE instances SET public_address = '127.0.0.1', ssh_port = %d WHERE gone_at IS NULL", server.Port),
	)
	again := h.launchedElsewhere(t, "other", "debian-12")
	h.must("instance", "adopt", "beside", "-address", "127.0.0.1", "-port", fmt.Sprint(server.Port), "-login", server.User,
		"-yes")
	h.sql(
		fmt.Sprintf("UPDATE instances SET public_address = '%s', ssh_port = %d WHERE name = 'beside'", again.PublicAddress,
			again.SshPort),
	)
	h.must("cloud", "read", "main")
	if one := h.broughtIn(3, "other")[0]; one.Problem == nil || one.Problem.Code != "address-taken" {
		t.Errorf("another machine at its address: %+v", one)
	}
	// Unless somebody says, with a reason, that it is.
	h.refused("no-reason", "instance", "bring-in", "other", "-same-as", "beside", "-yes")
	why := []string{"-reason", "reinstalled last week"}
	if one := h.broughtIn(3, append(why, "other", "-same-as", "gone")...)[0]; one.Problem == nil ||
		one.Problem.Code != "not-the-same" {
		t.Errorf("as a machine elsewhere: %+v", one)
	}
	pinned := h.hostKeys("beside").Pinned
	h.sql(
		`INSERT INTO grants (id, key_id, login_id, granted_at, granted_by, reason)
			SELECT gen_random_uuid(), k.id, l.id, now(),
		'ines', '' FROM keys k, logins l JOIN instances i ON i.id = l.instance_id WHERE i.name = 'beside'`,
	)
	one = h.broughtIn(0, append(why, "other", "-same-as", "beside")...)[0]
	if i := h.instance("beside"); one.Outcome != "joined" || one.Name != "beside" || i.CloudId != again.Id ||
		h.hostKeys("beside").Pinned[0].Sha256 == pinned[0].Sha256 || h.toldOften("hostkey.pin") != 1 {
		t.Errorf("as it was confirmed: %+v %+v", one, i)
	}
	if len(first(h.grants("-login", server.User+"@beside"))) == 0 {
		t.Error("its grants are gone")
	}
}

func TestInACloudWithoutBootOutputNothingIsLaunched(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	at, tokenFile := h.cloudBeside("boot-output")
	h.must("key", "new", "mine")
	h.must("cloud", "add", "mute", "-adapter", at, "-adapter-token-file", tokenFile)
	p := h.refused(
		"no-boot-output", "instance", "launch", "late", "-cloud", "mute", "-image", "debian-12", "-size", "small", "-key",
		"mine",
	)
	if !strings.Contains(*p.Remedy, "bring-in") || h.must("instance", "list", "-q") != "" {
		t.Errorf("%+v", p)
	}
}

func TestConsoleAddsACloudAndBringsInWhatRunsThere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	at, tokenFile := h.cloudBeside("snapshots")
	h.must("key", "new", "mine")
	h.launchedElsewhere(t, "gauge", "debian-12")
	h.launchedElsewhere(t, "mast", "debian-12")
	h.must("cloud", "read", "main")
	p := h.console(t)
	p.open("/settings/clouds")
	p.press("Add a cloud")
	p.fill("Name", "south-marsh")
	p.fill("Adapter", at)
	p.fill("Token", "guessed")
	p.press("Ask its adapter and add it")
	p.says("The cloud refused")
	p.fill("Token", strings.TrimSpace(read(t, tokenFile)))
	p.press("Ask its adapter and add it")
	eventually(t, "it is added", func() bool { return len(h.clouds()) == 2 })
	p.says("south-marsh")
	p.open("/instances")
	p.press("2 not yet recorded")
	p.says("made-elsewhere")
	p.tick("Choose gauge")
	p.press("Bring in 1 instance")
	p.press("Show what would be recorded")
	p.says("would be recorded")
	if out := h.must("instance", "list", "-q"); out != "" {
		t.Errorf("recorded by a preview: %s", out)
	}
	p.press("Record 1 instance")
	p.says("is recorded")
	if i := h.instance("gauge"); i.Cloud != "main" || !i.BroughtIn {
		t.Errorf("%+v", i)
	}
	p.open("/instances/gauge")
	p.says("Brought in")
}

func TestAnAdapterIsCheckedAgainstTheContract(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	junit := filepath.Join(t.TempDir(), "results.xml")
	check := func(args ...string) (string, error) {
		out, err := exec.Command(
			filepath.Join(bin, "plumlatchd"), append([]string{"-check-adapter", h.cloudURL, "-token-file"}, args...)...,
		).CombinedOutput()
		return string(out), err
	}
	out, err := check(h.tokenFile(), "-launch", "debian-12", "-size", "small", "-junit", junit)
	if err != nil || !strings.Contains(out, " 0 failed") || !strings.Contains(read(t, junit), `failures="0"`) {
		t.Errorf("%v\n%s", err, out)
	}
	wrong := filepath.Join(t.TempDir(), "wrong")
	if err := os.WriteFile(wrong, []byte("guessed"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := check(wrong); err == nil || !strings.Contains(out, "does not keep the contract") {
		t.Errorf("with a wrong token: %v\n%s", err, out)
	}
	if n := h.cloudInstances(); n != 0 {
		t.Errorf("%d instances are left of the check", n)
	}
}

// TestALimitedOperatorSeesNothingOfACloudThatIsNotRecorded lists and brings in as somebody who works on some labels.
func TestALimitedOperatorSeesNothingOfACloudThatIsNotRecorded(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	there := h.launchedElsewhere(t, "gauge", "debian-12")
	h.must("cloud", "read", "main")
	password := filepath.Join(h.dir, "runa.password")
	if err := os.WriteFile(password, []byte("harbour kittiwake"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must(
		"operator", "add", "runa", "-role", "operator", "-limit", "team=cameras", "-password-file", password,
	)
	runa := h.as(h.signIn("runa", "harbour kittiwake"), "cloud", "instances", "-json")
	if runa.status != 0 || strings.Contains(runa.out, there.Id) {
		t.Errorf("runa sees what is not recorded: %+v", runa)
	}
	token := h.signIn("runa", "harbour kittiwake")
	for _, name := range []string{there.Id, "gauge"} {
		r := h.as(token, "instance", "bring-in", name, "-yes", "-json")
		if r.status != 3 || !strings.Contains(r.out, `"no-such-instance"`) {
			t.Errorf("runa brings in %s: %+v", name, r)
		}
	}
	if r := h.as(token, "cloud", "pause", "main"); r.status != 5 {
		t.Errorf("runa pauses a cloud: %+v", r)
	}
	if out := h.must("instance", "list", "-q"); out != "" {
		t.Errorf("recorded: %s", out)
	}
}

// TestAnInstanceThatTellsAnothersHostKeyIsNotTakenForIt has an instance print the host keys of an adopted machine.
func TestAnInstanceThatTellsAnothersHostKeyIsNotTakenForIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	gate, liar := h.launchedElsewhere(t, "gate", "debian-12"), h.launchedElsewhere(t, "liar", "debian-12")
	h.must("instance", "adopt", "old-gate", "-address", gate.PublicAddress, "-port", fmt.Sprint(gate.SshPort), "-login",
		"debian", "-yes")
	output, err := h.cloudPort().BootOutput(t.Context(), gate.Id)
	if err != nil {
		t.Fatal(err)
	}
	s, through := h.spoilt()
	s.how.Store(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasSuffix(r.URL.Path, liar.Id+"/boot-output") {
			return false
		}
		fmt.Fprint(w, output)
		return true
	})
	h.must("cloud", "add", "odd", "-adapter", through, "-adapter-token-file", h.tokenFile())
	h.must("cloud", "read", "odd")
	one := h.broughtIn(3, "-cloud", "odd", "liar")[0]
	if i := h.instance("old-gate"); one.Problem == nil || one.Problem.Code != "host-key-not-shown" || !i.Adopted ||
		i.PublicAddress != gate.PublicAddress {
		t.Errorf("%+v %+v", one, i)
	}
	if one := h.broughtIn(0, "-cloud", "odd", "gate")[0]; one.Outcome != "joined" {
		t.Errorf("the machine itself: %+v", one)
	}
	// Another address of an instance is one at which it may have been adopted.
	h.must("instance", "adopt", "old-liar", "-address", liar.PublicAddress, "-port", fmt.Sprint(liar.SshPort), "-login",
		"debian", "-yes")
	h.sql("UPDATE instances SET public_address = '203.0.113.77' WHERE name = 'old-liar'")
	h.sql("DELETE FROM host_keys WHERE instance_id = (SELECT id FROM instances WHERE name = 'old-liar')")
	s.how.Store(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasSuffix(r.URL.Path, "/instances/"+liar.Id) {
			return false
		}
		there := liar
		there.OtherAddresses = &[]string{"203.0.113.77"}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(there)
		return true
	})
	one = h.broughtIn(3, "-cloud", "odd", "liar")[0]
	if one.Problem == nil || one.Problem.Code != "address-taken" || (*one.Problem.Where)[0] != "old-liar" {
		t.Errorf("adopted at its other address: %+v", one)
	}
}

// TestMostOfACloudIsNotTakenForGone points a cloud at the adapter of another one, which knows none of its instances.
func TestMostOfACloudIsNotTakenForGone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	at, tokenFile := h.cloudBeside("snapshots")
	_, through := h.spoilt()
	h.must("cloud", "add", "marsh", "-adapter", through, "-adapter-token-file", h.tokenFile())
	h.must("key", "new", "mine")
	for _, name := range []string{"one", "two", "three"} {
		h.launchedElsewhere(t, name, "debian-12")
	}
	h.must("cloud", "read", "marsh")
	h.broughtIn(0, "-cloud", "marsh", "-all")
	h.must("cloud", "change", "marsh", "-adapter", at, "-adapter-token-file", tokenFile)
	if r := h.client("cloud", "read", "marsh"); r.status != 7 || h.inCloud("marsh").Instances != 3 {
		t.Errorf("by another cloud: %+v %+v", r, h.inCloud("marsh"))
	}
	if n := h.toldOften("instance.gone"); n != 0 {
		t.Errorf("%d instances are told to be gone", n)
	}
	h.must("cloud", "read", "marsh", "-accept-gone")
	if c := h.inCloud("marsh"); c.Instances != 0 || h.toldOften("instance.gone") != 3 ||
		h.toldOften("cloud.accept-gone") != 1 {
		t.Errorf("accepted: %+v", c)
	}
}

// TestTwoWhoBringInTheSameRecordItOnce has four bring in the same at once.
func TestTwoWhoBringInTheSameRecordItOnce(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	there := h.launchedElsewhere(t, "gauge", "debian-12")
	h.must("cloud", "read", "main")
	results := make([]result, 4)
	var all sync.WaitGroup
	for n := range results {
		all.Go(func() {
			results[n] = h.client("instance", "bring-in", there.Id, "-as", fmt.Sprint("gauge-", n), "-yes", "-json")
		})
	}
	all.Wait()
	in := 0
	for _, r := range results {
		var list []apiclient.BroughtIn
		if err := json.Unmarshal([]byte(r.out), &list); err != nil || len(list) != 1 {
			t.Fatalf("%v %+v", err, r)
		}
		switch one := list[0]; {
		case one.Outcome == "brought-in":
			in++
		case one.Outcome == "was-there":
		case one.Problem == nil || one.Problem.Code != "recorded-already":
			t.Errorf("%+v", one)
		}
	}
	if out := h.must("instance", "list", "-q"); in != 1 || len(strings.Fields(out)) != 1 {
		t.Errorf("%d say that they brought it in, and recorded are %q", in, out)
	}
}
