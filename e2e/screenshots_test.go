package e2e

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/demo"
)

var screenshots = flag.String("screenshots", "", "folder for the console's pictures; none are taken unless given")

// TestScreenshots takes a picture of every page from the demo.
func TestScreenshots(t *testing.T) {
	if *screenshots == "" {
		t.Skip("no folder was given with -screenshots")
	}
	if err := os.MkdirAll(*screenshots, 0o755); err != nil {
		t.Fatal(err)
	}
	_, h := startDemo(t, demoDir(t))
	p := openBrowser(t, h.url)
	take := func(name, ready string) {
		t.Helper()
		p.says(ready)
		p.holds("the page to settle", `!document.querySelector(".ant-spin-spinning") && document.getAnimations().length === 0`)
		p.shoot(filepath.Join(*screenshots, name+".png"))
	}
	p.open("/")
	take("console-sign-in", "Sign in")
	p.signIn("marek", demo.Password("marek"))
	p.open("/")
	take("console-reach", "tide-gauge-3")
	p.open("/logins/ubuntu@ringing-web")
	take("console-login", "The first look was on")
	p.open("/instances")
	take("console-instances", "atlas-db")
	p.open("/instances/atlas-db")
	take("console-instance", "marek-main")
	p.open("/keys")
	take("console-keys", "atlas-old")
	p.press("New key")
	p.press("Import a public key")
	p.fill("Name", "atlas-laptop")
	p.paste("Public key", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH1xmF0uVwv8mFqnV2v9oS2cX3JvQd0bD1Yb2l0K4h7C marek@new-laptop")
	take("console-import", "SHA256:")
	p.open("/keys/hides-shared")
	take("console-key", "hide-cam-9")
	p.press("What is this?")
	p.insert(strings.TrimSpace(h.must("key", "show", "atlas-deploy", "-format", "jwk")))
	take("console-what-is-this", "ubuntu@atlas-web-1")
	p.open("/launch?key=marek-main")
	p.fill("Name", "atlas-web-3")
	take("console-launch", "debian@atlas-web-3")
	p.press("Launch")
	p.says("It is up. Log in")
	p.open("/daybook")
	take("console-daybook", "atlas-web-3")
	p.dark(true)
	p.open("/")
	take("console-dark", "tide-gauge-3")
}
