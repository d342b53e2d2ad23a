package cloud

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"
	"unicode"
)

// said is what an adapter answers to whatever it is asked.
type said struct {
	status int
	body   []byte
}

// FuzzAdapterAnswers makes every call of an adapter that answers anything. Each call comes to an
// end, and what it says of the cloud holds nothing that steers a terminal.
func FuzzAdapterAnswers(f *testing.F) {
	for _, body := range []string{
		"",
		"null",
		"[]",
		"{}",
		`[null]`,
		`{"detail":"no\u001b[2J"}`,
		`{"id":"op-1","kind":"start","state":"running"}`,
		`{"id":"op-1","kind":"\u001b[2J","state":"failed","error":"\u001b]0;x\u0007"}`,
		`{"text":"-----BEGIN SSH HOST KEY KEYS-----\nssh-ed25519 AAAA\n-----END SSH HOST KEY KEYS-----"}`,
		`[{"id":"i-1","state":"running","public_address":"not one","ssh_port":-1}]`,
		`{"content":"%%%"}`,
		`{"kind":"file","content":"AAAA","mode":-1}`,
		`{"status":1e99}`,
		strings.Repeat("[", 20000),
	} {
		for _, status := range []int{200, 204, 404, 409, 503} {
			f.Add(status, []byte(body))
		}
	}
	var now atomic.Pointer[said]
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		s := now.Load()
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(s.status)
		w.Write(s.body)
	}))
	f.Cleanup(server.Close)
	c, err := Connect(server.URL, "secret", time.Second)
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, status int, body []byte) {
		if status < 200 || status > 599 {
			return
		}
		now.Store(&said{status, body})
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
		defer cancel()
		for what, err := range everyCall(ctx, c) {
			if err == nil {
				continue
			}
			text := err.Error()
			var refused *RefusedError
			if strings.IndexFunc(text, unicode.IsControl) >= 0 &&
				(errors.As(err, &refused) || strings.Contains(text, "the cloud could not")) {
				t.Errorf("%s: %q", what, text)
			}
		}
	})
}

// everyCall makes each call once and returns how it ended.
func everyCall(ctx context.Context, c *Cloud) map[string]error {
	all := map[string]error{}
	one := func(what string, err error) { all[what] = err }
	_, err := c.Capabilities(ctx)
	one("capabilities", err)
	_, err = c.Images(ctx)
	one("images", err)
	_, err = c.Launch(ctx, Launch{})
	one("launch", err)
	_, _, err = c.Launched(ctx, "token")
	one("launched", err)
	_, err = c.Instance(ctx, "i-1")
	one("instance", err)
	text, err := c.BootOutput(ctx, "i-1")
	one("boot output", err)
	HostKeys(text)
	op, err := c.Start(ctx, "i-1")
	one("start", err)
	_, err = c.Await(ctx, op, err)
	one("await", err)
	_, err = c.FirewallRules(ctx)
	one("rules", err)
	_, err = c.Agent(ctx, "i-1")
	one("agent", err)
	at := AgentPlace{Instance: "i-1", Below: "/mnt"}
	_, err = c.AgentFile(ctx, at, "/etc/passwd", "debian")
	one("agent file", err)
	one("agent write", c.WriteAgentFile(ctx, at, "/etc/passwd", nil, nil, "debian", 0o600))
	_, err = c.AgentCommand(ctx, "i-1", "true")
	one("agent command", err)
	_, err = c.Shell(ctx, "i-1", nil, "true")
	one("shell", err)
	_, _, err = c.SnapshotMade(ctx, "token")
	one("snapshot", err)
	_, err = c.Disks(ctx, "i-1")
	one("disks", err)
	_, _, err = c.Disk(ctx, "d-1")
	one("disk", err)
	_, err = c.MetadataKeys(ctx, "i-1")
	one("metadata", err)
	_, err = c.InstanceChanges(ctx, "after", 10)
	one("changes", err)
	_, err = c.KeyPairs(ctx)
	one("key pairs", err)
	_, err = c.KeyGroups(ctx)
	one("key groups", err)
	_, err = c.Password(ctx, "i-1")
	one("password", err)
	return all
}
