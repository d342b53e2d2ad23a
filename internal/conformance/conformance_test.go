package conformance

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/paddock"
)

// standIn is a stand-in cloud in which one instance runs.
func standIn(t *testing.T) http.Handler {
	t.Helper()
	var c *paddock.Cloud
	var err error
	for range 50 { // until a block is free
		block := netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(200 + rand.IntN(20)), byte(rand.IntN(256)), 0}), 24)
		if c, err = paddock.Open(paddock.Options{Dir: t.TempDir(), Token: "secret", Block: block}); err == nil {
			break
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	server := httptest.NewServer(c.Handler())
	t.Cleanup(server.Close)
	port, err := cloud.Connect(server.URL, "secret", callWithin)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"one", "two", "three"} {
		op, err := port.Launch(t.Context(), cloud.Launch{
			RequestToken: name, Name: name, Image: "debian-12", Size: "small", Zone: "north-shore-a",
		})
		if _, err := port.Await(t.Context(), op, err); err != nil {
			t.Fatal(err)
		}
	}
	op, err := port.MakeSnapshot(t.Context(), "copy", firstInstance(t, port), "copy", false)
	if _, err := port.Await(t.Context(), op, err); err != nil {
		t.Fatal(err)
	}
	return c.Handler()
}

// firstInstance is the id of the first instance.
func firstInstance(t *testing.T, port *cloud.Cloud) string {
	t.Helper()
	page, err := port.InstancesPage(t.Context(), "", 1)
	if err != nil || len(page) == 0 {
		t.Fatal(err)
	}
	return page[0].Id
}

func verdicts(t *testing.T, h http.Handler, image string) map[string]Result {
	t.Helper()
	server := httptest.NewServer(h)
	defer server.Close()
	out := map[string]Result{}
	err := Check(t.Context(), Options{
		Adapter: cloud.Adapter{URL: server.URL, Token: "secret"}, Launch: image, Size: "small", Within: time.Minute,
	}, func(r Result) { out[r.Name] = r })
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// bent has a handler whose answers to some calls are changed.
func bent(
	h http.Handler,
	fits func(*http.Request) bool,
	bend func(status int, body []byte) (int, []byte),
) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !fits(r) {
			h.ServeHTTP(w, r)
			return
		}
		kept := httptest.NewRecorder()
		h.ServeHTTP(kept, r)
		status, body := bend(kept.Code, kept.Body.Bytes())
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		w.Write(body)
	})
}

func to(method, path string) func(*http.Request) bool {
	return func(r *http.Request) bool { return r.Method == method && strings.HasSuffix(r.URL.Path, path) }
}

func words(pairs ...string) func(int, []byte) (int, []byte) {
	return func(status int, body []byte) (int, []byte) {
		return status, []byte(strings.NewReplacer(pairs...).Replace(string(body)))
	}
}

func always(status int, body string) func(int, []byte) (int, []byte) {
	return func(int, []byte) (int, []byte) { return status, []byte(body) }
}

func TestTheStandInKeepsTheContract(t *testing.T) {
	got := verdicts(t, standIn(t), "debian-12")
	if len(got) != len(cases) {
		t.Errorf("%d cases were told of, want %d", len(got), len(cases))
	}
	for name, r := range got {
		if r.Verdict != Passed || r.Line == 0 {
			t.Errorf("%s: %s %s, at line %d of the contract", name, r.Verdict, r.Detail, r.Line)
		}
	}
}

// TestPlantedFaultsAreFound bends one answer at a time.
func TestPlantedFaultsAreFound(t *testing.T) {
	h := standIn(t)
	reversed := func(status int, body []byte) (int, []byte) {
		var list []json.RawMessage
		if json.Unmarshal(body, &list) != nil {
			return status, body
		}
		for a, b := 0, len(list)-1; a < b; a, b = a+1, b-1 {
			list[a], list[b] = list[b], list[a]
		}
		body, _ = json.Marshal(list)
		return status, body
	}
	again := func(status int, body []byte) (int, []byte) { // each thing of a list twice
		return status, []byte(strings.Replace(string(body), "[{", "["+firstOf(body)+",{", 1))
	}
	anyToken := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Header.Set("Authorization", "Bearer secret")
		h.ServeHTTP(w, r)
	})
	noLimit := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if q.Get("limit") == "2" {
			q.Set("limit", "3")
		}
		r.URL.RawQuery = q.Encode()
		h.ServeHTTP(w, r)
	})
	forgetful := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { // each launch is another
		if r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/instances") {
			var l map[string]any
			data, _ := io.ReadAll(r.Body)
			if json.Unmarshal(data, &l) == nil {
				l["request_token"] = fmt.Sprint(l["request_token"], rand.Int())
				data, _ = json.Marshal(l)
			}
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
		}
		h.ServeHTTP(w, r)
	})
	for name, c := range map[string]struct {
		adapter http.Handler
		found   string
		image   string
	}{
		"any token will do": {
			anyToken,
			"token missing", "",
		},
		"a capability of its own": {
			bent(h, to("GET", "/capabilities"), words(`"snapshots"`, `"teleport"`)),
			"capabilities", "",
		},
		"an image twice": {
			bent(h, to("GET", "/images"), again),
			"images", "",
		},
		"a login user with a blank": {
			bent(h, to("GET", "/images"), words(`"login_user":"debian"`, `"login_user":"de bian"`)),
			"images", "",
		},
		"a zone in no region": {
			bent(h, to("GET", "/zones"), words(`"region":"north-shore"`, `"region":""`)),
			"zones", "",
		},
		"a list backwards": {
			bent(h, to("GET", "/instances"), reversed),
			"instances listed", "",
		},
		"pages that are too long": {
			noLimit,
			"pages kept", "",
		},
		"a state of its own": {
			bent(h, to("GET", "/instances"), words(`"running"`, `"on fire"`)),
			"instances whole", "",
		},
		"a port that is none": {
			bent(h, to("GET", "/instances"), words(`"ssh_port":2222`, `"ssh_port":0`)),
			"instances whole", "",
		},
		"a failure for a bad limit": {
			bent(h, func(r *http.Request) bool { return r.URL.Query().Get("limit") == "0" }, always(500, "{}")),
			"page refused", "",
		},
		"what is not there is there": {
			bent(h, func(r *http.Request) bool { return strings.Contains(r.URL.Path, "not-there") }, always(200, "{}")),
			"instance unknown", "",
		},
		"a rule from nowhere": {
			bent(h, to("GET", "/firewall-rules"), words(`"source":"127.0.0.0/8"`, `"source":"anywhere"`)),
			"firewall rules", "",
		},
		"no root disk": {
			bent(h, to("GET", "/disks"), words(`"root":true`, `"root":false`)),
			"disks", "",
		},
		"an agent on holiday": {
			bent(h, to("GET", "/agent"), always(200, `{"state": "on holiday"}`)),
			"agent", "",
		},
		"a copy of nothing": {
			bent(h, to("GET", "/snapshots"), words(`"instance":"i-`, `"instance":"","was":"`)),
			"snapshots", "",
		},
		"changes of all that there ever was": {
			bent(h, to("GET", "/instance-changes"), words(`"instances":[]`, `"instances":[{"id":"i-1"}]`)),
			"changes", "",
		},
		"a place that is not known is forgiven": {
			bent(h, to("GET", "/instance-changes"), always(200, `{"instances":[],"next":"1","more":false}`)),
			"changes too old", "",
		},
		"a fingerprint of its own": {
			bent(h, to("GET", "/key-pairs"), always(200, `{"key_pairs":[{"name":"a","region":"b","fingerprint":"blue"}]}`)),
			"key catalogue", "",
		},
		"a group of no kind": {
			bent(h, to("GET", "/key-groups"), words(`"kind":"zone"`, `"kind":"flock"`)),
			"key groups", "",
		},
		"each launch is another": {
			forgetful,
			"launch", "debian-12",
		},
		"an end that is not ended": {
			bent(h, to("DELETE", ""), always(409, `{"detail": "no"}`)),
			"delete", "debian-12",
		},
	} {
		t.Run(name, func(t *testing.T) {
			got := verdicts(t, c.adapter, c.image)
			if r := got[c.found]; r.Verdict != Failed || r.Detail == "" || r.Line == 0 {
				t.Errorf("%s is %s: %q", c.found, r.Verdict, r.Detail)
				for _, r := range got {
					if r.Verdict == Failed {
						t.Logf("found by %s: %s", r.Name, r.Detail)
					}
				}
			}
		})
	}
}

func firstOf(body []byte) string {
	var list []json.RawMessage
	if json.Unmarshal(body, &list) != nil || len(list) == 0 {
		return ""
	}
	return string(list[0])
}

func TestResultsAreWrittenForPeopleAndForPrograms(t *testing.T) {
	results := []Result{
		{Name: "zones", Rule: "each has a region", Verdict: Passed, Call: "listZones", Line: 7},
		{
			Name:     "disks",
			Rule:     "one root",
			Verdict:  Failed,
			Call:     "listDisks",
			Line:     9,
			Detail:   "2 <roots>",
			Answered: "GET: 200 []",
		},
		{Name: "agent", Rule: "a state", Verdict: Skipped, Call: "getAgent", Line: 11, Detail: "none runs"},
	}
	var text, junit bytes.Buffer
	for _, r := range results {
		WriteResult(&text, r)
	}
	for _, want := range []string{
		"failed   disks", "2 <roots>", "line 9, listDisks", "answered: GET: 200 []", "none runs",
	} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("people are not told %q:\n%s", want, text.String())
		}
	}
	if err := WriteJUnit(&junit, "https://a.example", results); err != nil {
		t.Fatal(err)
	}
	var s suite
	if err := xml.Unmarshal(junit.Bytes(), &s); err != nil || s.Tests != 3 || s.Failures != 1 || s.Skipped != 1 ||
		s.Cases[1].Failure == nil || s.Cases[1].Failure.Message != "2 <roots>" {
		t.Errorf("%v %+v", err, s)
	}
}
