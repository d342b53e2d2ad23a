package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/jackc/pgx/v5"

	"plumlatch/internal/httpapi/contract"
)

// rank orders the roles of the contract.
var rank = map[string]int{"anyone": 0, "viewer": 1, "operator": 2, "admin": 3}

const someID = "0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"

// calls tells of every call of the contract but signing out.
func calls(t testing.TB, tell func(method, path string, op *openapi3.Operation)) {
	t.Helper()
	spec, err := contract.GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			op.OperationID = strings.ToLower(op.OperationID[:1]) + op.OperationID[1:] // the generator changes it
			if op.OperationID != "signOut" {
				n++
				tell(method, "/api/v1"+path, op)
			}
		}
	}
	if n < 100 {
		t.Errorf("only %d calls are in the contract", n)
	}
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

// fill puts something into a path's placeholders: for those that are given the given, for ids
// some id, and else a name that nothing has.
func fill(path string, given map[string]string) string {
	return placeholder.ReplaceAllStringFunc(path, func(p string) string {
		name := strings.Trim(p, "{}")
		if v := given[name]; v != "" {
			return v
		}
		switch name {
		case "run", "token", "sweep", "rotation", "asked", "session", "consent", "restore":
			return someID
		case "login":
			return "a@none"
		}
		return "none"
	})
}

// TestEveryCallOfTheContractAsksForItsRole walks the contract and makes each call with nothing, a
// false token, a token of each role, and tokens that are for less.
func TestEveryCallOfTheContractAsksForItsRole(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	tokens := map[string]string{"admin": h.token}
	for _, role := range []string{"viewer", "operator"} {
		tokens[role] = strings.TrimSpace(h.must("token", "new", "t-"+role, "-role", role, "-q"))
	}
	sweeps := strings.TrimSpace(h.must("token", "new", "sweeper", "-only", "sweep", "-q"))
	reads := strings.TrimSpace(h.must("token", "new", "reader", "-only", "read", "-q"))
	calls(t, func(method, path string, op *openapi3.Operation) {
		least, ok := op.Extensions["x-role"].(string)
		if _, known := rank[least]; !ok || !known {
			t.Errorf("%s %s has no role", method, path)
			return
		}
		if least == "anyone" {
			return
		}
		url := fill(path, nil)
		for _, token := range []string{
			"",
			"plumlatch_false",
			h.token + "x",
			h.token[:len(h.token)-1],
			strings.ToUpper(h.token),
		} {
			if status, body := h.call(method, url, token, "{}"); status != http.StatusUnauthorized ||
				!strings.Contains(body, "not-signed-in") {
				t.Errorf("%s %s with the token %q: %d %s", method, url, token, status, body)
			}
		}
		for role, token := range tokens {
			if op.OperationID == "watchDaybook" && rank[role] >= rank[least] {
				continue // it would continue for ever
			}
			status, body := h.call(method, url, token, "{}")
			refused := status == http.StatusForbidden && strings.Contains(body, "role-too-low")
			if refused != (rank[role] < rank[least]) {
				t.Errorf("%s %s as %s (needs %s): %d %s", method, url, role, least, status, body)
			}
			if status >= 500 {
				t.Errorf("%s %s as %s: %d %s", method, url, role, status, body)
			}
		}
		if forSweeps, _ := op.Extensions["x-sweep"].(bool); !forSweeps {
			if status, body := h.call(method, url, sweeps, "{}"); status != http.StatusForbidden {
				t.Errorf("%s %s with a token for sweeps alone: %d %s", method, url, status, body)
			}
		}
		if method != http.MethodGet {
			if status, body := h.call(method, url, reads, "{}"); status != http.StatusForbidden {
				t.Errorf("%s %s with a token for reading alone: %d %s", method, url, status, body)
			}
		}
	})
	if status, _ := h.call("GET", "/metrics", "", ""); status != http.StatusUnauthorized {
		t.Errorf("/metrics without a token: %d", status)
	}
	if status, body := h.call("GET", "/metrics", tokens["viewer"], ""); status != http.StatusOK ||
		!strings.Contains(body, "plumlatch_request_seconds_count") ||
		!strings.Contains(body, `plumlatch_logins{reach="shut"} 0`) ||
		!strings.Contains(body, "plumlatch_figures_failed 0") {
		t.Errorf("/metrics: %d", status)
	}
}

// TestNobodySeesOrTouchesWhatIsBeyondTheirLimit makes every call as an operator of the cameras, about an
// instance of the web team.
func TestNobodySeesOrTouchesWhatIsBeyondTheirLimit(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "web-key")
	h.must(
		"instance", "launch", "web-1", "-image", "debian-12", "-size", "small", "-key", "web-key", "-label",
		"team=web", "-steward",
	)
	web := h.instance("web-1")
	// Wherever it is told of a name or an address of the other team's, it is told too much.
	secrets := []string{"web-1", web.Connection.Address + `"`, web.PrivateAddress + `"`, web.Id.String(), "team=web"}
	for _, k := range web.Connection.HostKeys {
		secrets = append(secrets, k.Sha256)
	}
	h.must("sweep", "web-1")
	h.must(
		"operator", "add", "runa", "-role", "operator", "-limit", "team=cameras", "-password-file",
		writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	admin := h.token
	h.token = h.signIn("runa", password)
	h.must("key", "new", "cam-key")
	out := h.must("instance", "launch", "cam-1", "-image", "debian-12", "-size", "small", "-key", "cam-key", "-steward")
	if !strings.Contains(out, "cam-1 is up") {
		t.Fatal(out)
	}
	if got := h.must("instance", "list", "-q"); got != "cam-1\n" {
		t.Errorf("she sees %q", got)
	}
	runs := map[string]string{}
	for _, of := range []struct{ name, path string }{{"run", "/api/v1/runs"}, {"rotation", "/api/v1/rotations"}} {
		_, body := h.call("GET", of.path, admin, "")
		var page struct {
			Items []struct{ ID, Instance string }
		}
		if err := json.Unmarshal([]byte(body), &page); err != nil {
			t.Fatal(err)
		}
		for _, r := range page.Items {
			if r.Instance == "web-1" {
				runs[of.name] = r.ID
			}
		}
	}
	if runs["run"] == "" {
		t.Fatal("the launch of web-1 is no run")
	}
	given := map[string]string{"instance": "web-1", "login": "debian@web-1", "run": runs["run"], "key": "cam-key"}
	bodies := map[string]string{
		"addGrant":       `{"key":"cam-key","login":"web-1"}`,
		"withdrawGrant":  `{"key":"web-key","login":"web-1","anyway":true,"reason":"x"}`,
		"startSweep":     `{"instances":["web-1"]}`,
		"launchInstance": `{"name":"sneak","image":"debian-12","size":"small","keys":["cam-key"],"labels":{"team":"web"}}`,
		"startRestore":   `{"login":"web-1","route":"guest-agent","key":"cam-key","reason":"x"}`,
		"planRotation":   `{"keys":["web-key"]}`,
		"startRotation": `{"wanted":{"keys":["web-key"]},` +
			`"shown":[{"login":"debian@web-1","old":"web-key","new":"web-key-2"}],"make":"service"}`,
		"settleDrift":     `{"choices":[{"login":"debian@web-1","sha256":"SHA256:x","choice":"remove"}]}`,
		"trace":           `{"text":"` + web.Connection.HostKeys[0].Sha256 + `"}`,
		"addRotationRule": `{"name":"all","wanted":{"shared":true},"make":"service"}`,
		"markLost":        `{"reason":"x"}`,
		"reportFiles":     `{"files":[]}`,
		"checkDaybook":    " ",
	}
	before := h.daybookOf(admin, "web-1")
	calls(t, func(method, path string, op *openapi3.Operation) {
		least, _ := op.Extensions["x-role"].(string)
		if rank[least] > rank["operator"] || least == "anyone" || op.OperationID == "watchDaybook" ||
			op.OperationID == "markLost" ||
			op.OperationID == "deleteKey" {
			return
		}
		body := bodies[op.OperationID]
		if body == "" && method != http.MethodGet {
			body = "{}"
		}
		status, said := h.call(method, fill(path, given), h.token, strings.TrimSpace(body))
		for _, secret := range secrets {
			if strings.Contains(strings.ReplaceAll(said, `"where":["web-1"]`, ""), secret) &&
				!strings.Contains(said, "there is no ") &&
				!strings.Contains(said, "the label given is") &&
				!strings.Contains(said, "plan-outrun") {
				t.Errorf("%s %s tells of %s: %d %.300s", method, path, secret, status, said)
			}
		}
		if strings.Contains(path, "{instance}") || strings.Contains(path, "{login}") || strings.Contains(path, "{run}") {
			if status < 400 || status >= 500 {
				t.Errorf("%s %s: %d %.300s", method, path, status, said)
			}
		}
	})
	if after := h.daybookOf(admin, "web-1"); after != before {
		t.Errorf("something was done about web-1:\n%s\nbefore:\n%s", after, before)
	}
	for _, args := range [][]string{
		{"key", "delete", "web-key", "-yes"},
		{"rotate", "rule", "x"},
		{"grant", "add", "cam-key", "web-1"},
		{"instance", "show", "web-1"},
		{"openers", "web-1"},
		{"why", "web-1"},
		{"sweep", "web-1"},
	} {
		if r := h.client(args...); r.status == 0 {
			t.Errorf("plumlatch %s: %s", strings.Join(args, " "), r.out)
		}
	}
	if out := h.must("opens", "web-key"); strings.Contains(out, "web-1") {
		t.Errorf("opens: %s", out)
	}
	if r := h.client("key", "mark-lost", "web-key", "-reason", "x", "-yes"); r.status == 0 ||
		!strings.Contains(r.err, "holder") && !strings.Contains(r.err, "do not see") {
		t.Errorf("a key beyond her limit: %s%s", r.out, r.err)
	}
	if out := h.must("daybook", "list", "-all"); strings.Contains(out, "web-1") || !strings.Contains(out, "cam-1") {
		t.Errorf("her daybook:\n%s", out)
	}
	// An admin lifts the limit, and it is lifted at once.
	kept := h.token
	h.token = admin
	h.must("operator", "change", "runa", "-no-limit")
	h.token = kept
	if got := h.must("instance", "list", "-q"); got != "cam-1\nweb-1\n" {
		t.Errorf("without a limit she sees %q", got)
	}
}

// daybookOf is what the daybook says of an instance.
func (h *house) daybookOf(token, instance string) string {
	h.t.Helper()
	status, body := h.call("GET", "/api/v1/daybook/export?instance="+instance, token, "")
	if status != http.StatusOK {
		h.t.Fatalf("%d %s", status, body)
	}
	var out []string
	for line := range strings.Lines(body) {
		var e struct{ Person, Sentence string }
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			h.t.Fatal(err)
		}
		if e.Person != "service" {
			out = append(out, e.Sentence)
		}
	}
	return strings.Join(out, "\n")
}

func writeFile(t testing.TB, path, text string) string {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// plausible is something of the schema's type.
func plausible(s *openapi3.Schema) any {
	switch {
	case s.Type.Is("integer"), s.Type.Is("number"):
		return 1
	case s.Type.Is("boolean"):
		return false
	case s.Type.Is("array"):
		return []any{}
	case s.Type.Is("object"):
		return map[string]any{}
	}
	return "none"
}

// TestMarkedSecretsAreNowhereTheyShouldNotBe makes every call and runs every command with
// secrets that are marked, and looks for the marks in the log, the daybook, the database and
// the arguments of processes.
func TestMarkedSecretsAreNowhereTheyShouldNotBe(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	const mark = "MARKED-puffin-burrow-7"
	h.must(
		"operator", "add", "runa", "-role", "operator", "-password-file",
		writeFile(t, filepath.Join(h.dir, "word"), mark+"-password"),
	)
	h.must("key", "new", "own")
	private := strings.Replace(
		read(t, filepath.Join(h.home(), ".ssh/own")), "b3BlbnNzaC1rZXktdjE", "b3BlbnNzaC1rZXktdjE", 1,
	)
	body64 := strings.Split(private, "\n")[2]
	marks := []string{mark, body64}

	marked := 0
	calls(t, func(method, path string, op *openapi3.Operation) {
		if op.OperationID == "watchDaybook" {
			return
		}
		body := ""
		if op.RequestBody != nil && op.RequestBody.Value.Content["application/json"] != nil { // else it is a file
			fields := map[string]any{}
			for name, schema := range op.RequestBody.Value.Content["application/json"].Schema.Value.Properties {
				switch {
				case slices.Contains(
					[]string{"password", "new_password", "code", "secret", "passphrase", "signature", "encrypted"}, name,
				):
					fields[name], marked = mark+"-password", marked+1
				case slices.Contains([]string{"text", "public_key", "recipient", "csv", "fingerprint"}, name):
					fields[name], marked = private, marked+1
				case slices.Contains(op.RequestBody.Value.Content["application/json"].Schema.Value.Required, name):
					fields[name] = plausible(schema.Value)
				}
			}
			if op.OperationID == "signIn" || op.OperationID == "setUp" {
				fields["name"] = "runa"
			}
			body = jsonBody(t, fields)
		}
		for _, token := range []string{"plumlatch_" + mark, h.token} {
			_, said := h.call(method, fill(path, nil), token, body)
			for _, m := range marks {
				if strings.Contains(said, m) {
					t.Errorf("%s %s gives a secret back: %.300s", method, path, said)
				}
			}
		}
	})
	if marked < 15 {
		t.Errorf("only %d fields were marked", marked)
	}
	// What is handed over or kept.
	_, made := h.call("POST", "/api/v1/keys/made", h.token, `{"name":"by-service","passphrase":"`+mark+`"}`)
	var answer struct {
		PrivateKey string `json:"private_key"`
	}
	if err := json.Unmarshal([]byte(made), &answer); err != nil || !strings.Contains(answer.PrivateKey, "PRIVATE KEY") {
		t.Fatalf("%v %.300s", err, made)
	}
	_, factor := h.call("POST", "/api/v1/factor", h.session("ines", password), "")
	var f struct{ Secret string }
	if err := json.Unmarshal([]byte(factor), &f); err != nil || len(f.Secret) < 16 {
		t.Fatal(factor)
	}
	_, subscriber := h.call("POST", "/api/v1/subscribers", h.token, `{"name":"pager","address":"http://127.0.0.1:1/"}`)
	var r struct{ Secret string }
	if err := json.Unmarshal([]byte(subscriber), &r); err != nil || len(r.Secret) < 32 {
		t.Fatal(subscriber)
	}
	marks = append(marks, strings.Split(answer.PrivateKey, "\n")[2], f.Secret, r.Secret, h.token)

	// Every command, with a false token that is marked and marked files.
	word := writeFile(t, filepath.Join(h.dir, "marked"), mark+"-password")
	help := h.must("help", "-all")
	commands := 0
	kept := h.token
	h.work = t.TempDir() // some write files where they are
	listed := regexp.MustCompile(`(?m)^  ([a-z-]+(?: [a-z-]+)?)(?: [A-Z[].*?)?  `)
	for _, line := range listed.FindAllStringSubmatch(help, -1) {
		name := strings.Fields(line[1])
		if called := strings.Join(name, " "); called == "daybook watch" || called == "help" {
			continue
		}
		commands++
		for _, token := range []string{"plumlatch_" + mark, kept} {
			if strings.Join(name, " ") == "sign-out" {
				continue
			}
			h.token = token
			out := h.clientIn(mark+"\n", append(name, "none", "-password-file", word)...)
			takesNone := strings.Contains(out.err, "flag provided but not defined")
			if takesNone {
				out = h.clientIn(mark+"\n", append(name, "none")...)
			}
			if strings.Contains(out.out+out.err, mark) {
				t.Errorf("plumlatch %s writes a secret: %s%s", strings.Join(name, " "), out.out, out.err)
			}
			if takesNone {
				break // a true token would only be used for what has no secret
			}
		}
	}
	h.token = kept
	if commands < 80 {
		t.Errorf("only %d commands were run", commands)
	}

	look := func(where, text string) {
		t.Helper()
		for _, m := range marks {
			if i := strings.Index(text, m); i >= 0 {
				t.Errorf("%s holds a secret: …%s…", where, text[max(0, i-120):min(len(text), i+80)])
			}
		}
	}
	look("the service's log", h.service.out.String())
	look("the daybook", h.must("daybook", "export"))
	conn, err := pgx.Connect(t.Context(), h.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	rows, err := conn.Query(
		t.Context(),
		"SELECT format('%I.%I', schemaname, tablename) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', "+
			"'information_schema')",
	)
	if err != nil {
		t.Fatal(err)
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || len(tables) < 30 {
		t.Fatal(tables, err)
	}
	for _, table := range tables {
		rows, err := conn.Query(t.Context(), "SELECT x::text FROM "+table+" x")
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			var text string
			if err := rows.Scan(&text); err != nil {
				t.Fatal(err)
			}
			look("the table "+table, text)
			for _, m := range marks { // bytea is written in hexadecimal
				if strings.Contains(text, fmt.Sprintf("%x", m)) {
					t.Errorf("the table %s holds a secret", table)
				}
			}
		}
		if rows.Err() != nil {
			t.Fatal(rows.Err())
		}
	}
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range processes {
		if data, err := os.ReadFile(file); err == nil {
			look("the arguments of a process", string(data))
		}
	}
}
