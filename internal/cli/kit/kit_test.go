package kit

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"plumlatch/internal/core/keypair"
)

// TestShellWordsComeBackUnchanged asks a real shell.
func TestShellWordsComeBackUnchanged(t *testing.T) {
	for _, word := range []string{
		"plain",
		"/a/b.c_d-e",
		"two words",
		"it's",
		`"quoted"`,
		"$HOME",
		"a;b",
		"*",
		"",
		"ünï",
		"line\nbreak",
	} {
		out, err := exec.Command("sh", "-c", "printf %s "+ShellWord(word)).Output()
		if err != nil || string(out) != word {
			t.Errorf("%q comes back as %q, %v", word, out, err)
		}
	}
}

func TestPathsAreShownFromHomeOnlyWhereAShellWouldReadThemSo(t *testing.T) {
	s := &Session{Env: Env{Getenv: func(name string) string { return map[string]string{"HOME": "/home/ines"}[name] }}}
	for path, want := range map[string]string{
		"/home/ines/.ssh/atlas": "~/.ssh/atlas",
		"/home/ines/my key":     "'/home/ines/my key'",
		"/home/inesita/k":       "/home/inesita/k",
		"k":                     "k",
	} {
		if got := s.Shown(path); got != want {
			t.Errorf("%s is shown as %s, want %s", path, got, want)
		}
	}
}

func TestReserveHoldsAPlaceAndKeepsWhatSomebodyPutThereMeanwhile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", "key")
	place, err := Reserve(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Dir(path)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the folder: %v %v", info, err)
	}
	if err := os.WriteFile(path, []byte("meanwhile"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := place.Keep([]byte("private"), keypair.Public{Algorithm: "ssh-ed25519"}); err == nil {
		t.Error("a file that came meanwhile was written over")
	}
	if data, err := os.ReadFile(path); err != nil || string(data) != "meanwhile" {
		t.Errorf("%q %v", data, err)
	}
	if left, err := filepath.Glob(filepath.Join(filepath.Dir(path), ".plumlatch-*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v %v", left, err)
	}
}

// TestAServerThatSaysNothingIsNotWaitedForWithoutEnd has one that takes connections alone, and one
// that takes its time within a stream.
func TestAServerThatSaysNothingIsNotWaitedForWithoutEnd(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	client := newHTTPClient(time.Second, 100*time.Millisecond)
	begun := time.Now()
	if r, err := client.Get("http://" + silent.Addr().String()); err == nil || time.Since(begun) > 20*time.Second {
		t.Errorf("%v %v after %s, want an error", r, err, time.Since(begun))
	}
	stream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusOK)
		w.(http.Flusher).Flush()
		time.Sleep(300 * time.Millisecond)
		io.WriteString(w, "event")
	}))
	defer stream.Close()
	r, err := client.Get(stream.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	if text, err := io.ReadAll(r.Body); err != nil || string(text) != "event" {
		t.Errorf("a stream: %q %v", text, err)
	}
}
