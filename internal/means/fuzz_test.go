package means

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/sshio"
)

// FuzzWhatACloudSaysOfFiles reads and changes a login's files through the guest agent and the
// shell of a cloud that answers the calls one after another with anything.
func FuzzWhatACloudSaysOfFiles(f *testing.F) {
	const passwd = `{"kind":"file","content":"ZGViaWFuOng6MTAwMDoxMDAwOjovaG9tZS9kZWJpYW46L2Jpbi9iYXNoCg==",` +
		`"mode":420,"owner":"root"}`
	f.Add(passwd + "\x00" + `{"kind":"none"}` + "\x00" + `{"kind":"file","content":"Iwo=","mode":384,"owner":"debian"}`)
	f.Add(
		`{"status":0,"output":"ZGViaWFuOng6MTAwMDoxMDAwOjovaG9tZS9kZWJpYW46L2Jpbi9iYXNoCg=="}` + "\x00" +
			`{"status":0,"output":"Iwo="}` + "\x00" + `{"status":1,"errors":"\u001b[2J"}`,
	)
	f.Add(passwd + "\x00" + `{"kind":"folder"}` + "\x00" + `null`)
	var answers atomic.Pointer[[]string]
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		all := *answers.Load()
		w.Header().Set("Content-Type", "application/json")
		w.Write([]byte(all[min(int(asked.Add(1)), len(all))-1]))
	}))
	f.Cleanup(server.Close)
	c, err := cloud.Connect(server.URL, "secret", time.Second)
	if err != nil {
		f.Fatal(err)
	}
	ines := newPerson(f, "ines")
	f.Fuzz(func(t *testing.T, all string) {
		list := strings.Split(all, "\x00")
		answers.Store(&list)
		for name, m := range map[string]Means{
			"agent": ByAgent(c, cloud.AgentPlace{Instance: "i-1"}, "debian"),
			"disk":  ByAgent(c, cloud.AgentPlace{Instance: "i-1", Below: "/mnt"}, "debian"),
			"shell": InShell(c, "i-1", "debian"),
		} {
			ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
			asked.Store(0)
			seen, err := m.Read(ctx)
			total := 0
			for _, file := range seen.Files {
				total += len(file.Content)
			}
			if total > sshio.MaxFileBytes {
				t.Errorf("%s: %d bytes are read, %v", name, total, err)
			}
			asked.Store(0)
			var kept Journal
			New(m, &kept, func(context.Context) error { return nil }, now).Place(ctx, ines.Key)
			cancel()
		}
	})
}
