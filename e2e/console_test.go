package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"plumlatch/internal/demo"
)

func TestConsoleFromSignInToAnInstanceUnderItsKey(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "disk=200ms,boot=200ms")
	file := filepath.Join(h.dir, "tern")
	if out, err := exec.Command(
		"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "ines@laptop", "-f", file,
	).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	public, err := os.ReadFile(file + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	private, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	p := openBrowser(t, h.url)
	p.open("/keys") // leads to the sign-in and back
	p.fill("Name", "ines")
	p.fill("Password", "wrong password")
	p.press("Sign in")
	p.says("The name or the password is wrong")
	p.fill("Password", password)
	p.press("Sign in")
	p.says("There is no key yet")

	p.press("New key")
	p.press("Import a public key")
	p.fill("Name", "tern")
	p.paste("Public key", string(private))
	p.says("Its public key was derived in this page")
	p.paste("Public key", strings.TrimSpace(string(public))[:50])
	p.says("before the key is complete")
	p.paste("Public key", string(public))
	p.says("SHA256:")
	p.holds("the comment", `[...document.querySelectorAll("input")].some((i) => i.value === "ines@laptop")`)
	p.press("Import it")
	p.holds("the key in the list", `Boolean(document.querySelector("a[href='/keys/tern'] svg"))`)

	p.open("/instances")
	p.says("There is no instance yet")
	p.press("Launch an instance")
	p.fill("Name", "hide-cam-1")
	p.press("Launch")
	p.says("Choose a key, make one, or say below")
	p.choose("Keys that open it", "tern")
	p.press("Launch")
	for _, step := range []string{
		"Disk",
		"First boot",
		"SSH answering",
		"It is up. Log in",
		"ssh -i ~/.ssh/tern -o IdentitiesOnly=yes -p 2222 debian@127.",
	} {
		p.says(step)
	}
	p.says(h.instance("hide-cam-1").Connection.HostKeys[0].Sha256)
	p.open("/keys/tern")
	p.says("debian@hide-cam-1")
	p.says("in place")
	p.press("Delete")
	p.press("Delete the record")
	p.says("still opens, or should open, 1 login")
	p.open("/daybook")
	p.says("ines imported the key tern")
	p.says("console")
	p.open("/instances/hide-cam-1")
	p.press("Stop")
	p.says("the next start brings another")
	p.holds(
		"a stop that waits for the name",
		`[...document.querySelectorAll("button")].find((b) => b.innerText === "Stop it").disabled`,
	)
	p.do(chromedp.KeyEvent("hide-cam-1"))
	p.press("Stop it")
	p.says("Stop of hide-cam-1")
	p.press("To hide-cam-1")
	p.says("It has no address while it is stopped")
}

func TestConsoleHandsAPrivateKeyOverAndStaysUntilItIsSaved(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	p := h.console(t)
	p.open("/keys")
	p.press("New key")
	p.press("Let the service make it")
	p.fill("Name", "petrel")
	p.press("Make it and download the private key")
	p.says("Save the private key of petrel now")
	file := filepath.Join(p.downloads, "petrel")
	eventually(t, "the download", func() bool {
		return exec.Command("ssh-keygen", "-y", "-P", "", "-f", readableCopy(t, file)).Run() == nil
	})
	p.holds(
		"no way to close",
		`[...document.querySelectorAll("button")].find((b) => b.innerText === "Close").disabled
			&& !document.querySelector(".ant-modal-close")`,
	)
	p.press("I have saved the private key of petrel")
	p.press("Close")
	p.holds("the dialog is gone", `!document.body.innerText.includes("Save the private key")`)
	p.open("/keys/petrel")
	p.says("the service made it and handed it over once")
}

// readableCopy returns a copy with the mode that ssh-keygen insists on.
func readableCopy(t *testing.T, file string) string {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		return file // not there yet
	}
	copied := filepath.Join(t.TempDir(), "copy")
	if err := os.WriteFile(copied, data, 0o600); err != nil {
		t.Fatal(err)
	}
	return copied
}

func TestConsoleNoticesAKeyMadeOnOnesOwnMachine(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	p := h.console(t)
	p.open("/keys")
	p.press("New key")
	p.fill("Name", "own")
	p.says("plumlatch key new own")
	p.says("Waiting for own to be recorded")
	h.must("key", "new", "own")
	p.says("own is recorded: SHA256:")
	p.press("Continue")
	p.holds("the key in the list", `Boolean(document.querySelector("a[href='/keys/own']"))`)
}

func TestConsoleSaysWhatIsNotThere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	p := h.console(t)
	p.open("/instances/none")
	p.says("There is no instance named")
	p.open("/nowhere")
	p.says("There is no such page")
}

// TestConsoleSaysThatItWasUpdatedMeanwhile is of a page whose parts the service no longer
// has.
func TestConsoleSaysThatItWasUpdatedMeanwhile(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	p := h.console(t)
	p.open("/")
	p.says("Instances")
	block := func(yes bool) {
		t.Helper()
		none := network.SetBlockedURLsParams{
			URLPatterns: []*network.BlockPattern{{URLPattern: "*://*:*/assets/Daybook-*", Block: yes}},
		}
		if _, err := chromedp.Call(p.ctx, network.SetBlockedURLs, none); err != nil {
			t.Fatal(err)
		}
	}
	block(true)
	p.press("Daybook")
	p.says("The console was updated meanwhile")
	block(false)
	p.press("Load the page again")
	p.says("ines signed in.")
}

func TestConsoleOffersAViewerNothingToChange(t *testing.T) {
	t.Parallel()
	_, h := startDemo(t, demoDir(t))
	p := openBrowser(t, h.url)
	p.signedIn("sunniva", demo.Password("sunniva"))
	for path, shows := range map[string]string{
		"/instances":          "atlas-db",
		"/instances/atlas-db": "marek-main",
		"/keys":               "atlas-old",
		"/keys/atlas-old":     "It opens nothing",
	} {
		p.open(path)
		p.says(shows)
		p.holds(
			"no button to change anything on "+path,
			`![...document.querySelectorAll("button")]
				.some((b) =>
					["Launch an instance", "New key", "Stop", "Start", "Delete", "Delete"].includes(b.innerText.trim()))`,
		)
	}
}
