package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"plumlatch/internal/apiclient"
)

// cookie is the session of the page.
func (p *page) cookie(t *testing.T) string {
	t.Helper()
	all, err := chromedp.Call(p.ctx, network.GetCookies, network.GetCookiesParams{URLs: []string{p.url}})
	if err != nil || len(all.Cookies) != 1 {
		t.Fatalf("the cookies of a page: %v %v", all, err)
	}
	return all.Cookies[0].Name + "=" + all.Cookies[0].Value + ";"
}

// TestFilesGoThroughAnOpenTerminal puts a file, replaces it after a question, and fetches it again, in the console.
func TestFilesGoThroughAnOpenTerminal(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern", "-steward")
	home := filepath.Dir(filepath.Dir(h.keysFile("cam")))
	p := h.console(t)
	p.open("/terminals/debian@cam")
	p.press("A key for this visit")
	p.press("Open the terminal")
	p.types("whoami")
	p.says("debian")
	p.press("Files")
	p.says(".ssh")
	dir := t.TempDir()
	tides := writeFile(t, filepath.Join(dir, "tides.csv"), strings.Repeat("2026-11-30,4.1\n", 200_000))
	put := func() { p.do(chromedp.SetUploadFiles(`input[aria-label="Files to put"]`, []string{tides})) }
	put()
	p.says("/home/debian/tides.csv")
	p.says("is there, 3.0 MB")
	if got := read(t, filepath.Join(home, "tides.csv")); got != read(t, tides) {
		t.Errorf("what was put has %d bytes, want %d", len(got), len(read(t, tides)))
	}
	writeFile(t, tides, "later\n")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('input[aria-label="Files to put"]').value = ""`))
	put()
	p.says("There is a file of that name in /home/debian.")
	if got := read(t, filepath.Join(home, "tides.csv")); len(got) < 1_000_000 {
		t.Errorf("replaced before anybody said so: %d bytes", len(got))
	}
	p.press("Replace it")
	p.says("is there, 6 B")
	if got := read(t, filepath.Join(home, "tides.csv")); got != "later\n" {
		t.Errorf("replaced by %q", got)
	}
	p.press("Fetch")
	if got := p.downloaded("tides.csv"); got != "later\n" {
		t.Errorf("fetched %q", got)
	}
	p.press(".ssh")
	p.says("authorized_keys")
	left, err := filepath.Glob(filepath.Join(home, ".*part-*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v %v", left, err)
	}
	if put, fetched := h.toldOften("visit.put"), h.toldOften("visit.fetch"); put != 2 || fetched != 1 {
		t.Errorf("the daybook tells of %d files that were put and %d that were fetched", put, fetched)
	}
}

// TestFilesOfAVisitAreForItsSessionAndNeverThoseOfKeys tries what a page, or somebody else, should not do.
func TestFilesOfAVisitAreForItsSessionAndNeverThoseOfKeys(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern", "-steward")
	keys := h.keysFile("cam")
	home := filepath.Dir(filepath.Dir(keys))
	before := read(t, keys)
	p := h.console(t)
	p.open("/terminals/debian@cam")
	p.press("A key for this visit")
	p.press("Open the terminal")
	p.types("whoami")
	id := h.visits(t)[0].Id.String()
	session := p.cookie(t)
	call := func(method, session, path, query string, body io.Reader, length int64) (int, string, string) {
		t.Helper()
		r, err := http.NewRequest(
			method, h.url+"/api/v1/visits/"+id+"/files"+path+"?replace=true&path="+url.QueryEscape(query), body,
		)
		if err != nil {
			t.Fatal(err)
		}
		present(r, session)
		r.Header.Set("Content-Type", "application/octet-stream")
		r.ContentLength = length
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return 0, "", err.Error()
		}
		defer answer.Body.Close()
		data, _ := io.ReadAll(answer.Body)
		var problem apiclient.Problem
		_ = json.Unmarshal(data, &problem)
		return answer.StatusCode, problem.Code, string(data)
	}
	put := func(session, name, text string) (int, string) {
		status, code, _ := call("PUT", session, "/content", name, strings.NewReader(text), int64(len(text)))
		return status, code
	}
	during := read(t, keys)
	for _, name := range []string{
		"/home/debian/.ssh/authorized_keys", ".ssh/authorized_keys", "/home/debian/x/../.ssh/config", ".ssh",
	} {
		if status, code := put(session, name, "gone"); status != http.StatusForbidden || code != "keys-file" {
			t.Errorf("put %s: %d %s", name, status, code)
		}
	}
	if err := os.Symlink(".ssh", filepath.Join(home, "way")); err != nil {
		t.Fatal(err)
	}
	if status, code := put(session, "way/authorized_keys", "gone"); status == http.StatusOK {
		t.Errorf("through a link: %d %s", status, code)
	}
	if read(t, keys) != during {
		t.Fatal("a file of keys was changed by a transfer")
	}
	for name, want := range map[string]string{
		"/etc/passwd": "", "": "bad-path", "/": "bad-path", "a\x1bb": "bad-path", "/nowhere/at/all": "no-such-file",
	} {
		if status, code := put(session, name, "x"); status == http.StatusOK || want != "" && code != want {
			t.Errorf("put %q: %d %s, want %s", name, status, code, want)
		}
	}
	for query, want := range map[string]string{"/home/debian": "not-a-file", "/nothing": "no-such-file"} {
		if status, code, _ := call("GET", session, "/content", query, nil, 0); status == http.StatusOK || code != want {
			t.Errorf("fetch %q: %d %s, want %s", query, status, code, want)
		}
	}
	other := h.session("ines", password)
	for _, who := range []string{other, h.token} {
		if status, _ := put(who, "/home/debian/x", "x"); status != http.StatusNotFound {
			t.Errorf("put by another session: %d", status)
		}
		if status, _, text := call("GET", who, "/content", "/home/debian/.profile", nil, 0); status != http.StatusNotFound {
			t.Errorf("fetched by another session: %d %s", status, text)
		}
		if status, _, text := call("GET", who, "", "", nil, 0); status != http.StatusNotFound {
			t.Errorf("listed by another session: %d %s", status, text)
		}
	}
	// A transfer that breaks leaves nothing.
	half, cut := io.Pipe()
	go func() {
		fmt.Fprint(cut, strings.Repeat("x", 100_000))
		cut.CloseWithError(io.ErrUnexpectedEOF)
	}()
	if status, _, _ := call("PUT", session, "/content", "/home/debian/half", half, 1_000_000); status == http.StatusOK {
		t.Error("half a file is told as written")
	}
	eventually(t, "nothing of half a file", func() bool {
		left, err := filepath.Glob(filepath.Join(home, "*half*"))
		more, _ := filepath.Glob(filepath.Join(home, ".*half*"))
		return err == nil && len(left)+len(more) == 0
	})
	text := bytes.Repeat([]byte("gull "), 1000)
	status, _, answer := call("PUT", session, "/content", "/home/debian/gulls", bytes.NewReader(text), int64(len(text)))
	var written apiclient.VisitFilePut
	if err := json.Unmarshal([]byte(answer), &written); err != nil || status != http.StatusOK {
		t.Fatal(status, answer)
	}
	if sum := sha256.Sum256(text); written.Sha256 != hex.EncodeToString(sum[:]) || written.Size != int64(len(text)) {
		t.Errorf("written as %+v", written)
	}
	p.press("End it")
	p.says("The terminal is closed")
	if status, code := put(session, "/home/debian/late", "x"); status != http.StatusConflict || code != "visit-not-open" {
		t.Errorf("put after the end: %d %s", status, code)
	}
	eventually(t, "the keys to be as before", func() bool { return read(t, keys) == before })
	h.service.kill(t)
	h.startService(h.listen(), "-no-visit-files")
	p.open("/terminals/debian@cam")
	p.press("A key for this visit")
	p.press("Open the terminal")
	p.types("whoami")
	id = h.visits(t)[0].Id.String()
	eventually(t, "files to be refused", func() bool {
		status, code, _ := call("GET", p.cookie(t), "", "", nil, 0)
		return status == http.StatusForbidden && code == "no-visit-files"
	})
}
