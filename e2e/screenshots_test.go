package e2e

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
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
		p.holds("the page to settle", `!document.querySelector(".ant-spin-spinning") && document.getAnimations().every((a) => a.effect.getTiming().iterations === Infinity)`)
		p.shoot(filepath.Join(*screenshots, name+".png"))
	}
	p.signIn("marek", demo.Password("marek"))
	p.open("/")
	take("console-reach", "tide-gauge-3")
	p.open("/logins/ubuntu@ringing-web")
	take("console-login", "The first look was on")
	p.open("/differences")
	take("console-differences", "missing")
	p.open("/grants")
	take("console-grants", "cover for the field team")
	p.open("/proofs")
	take("console-to-prove", "never proved")
	p.open("/instances")
	take("console-instances", "atlas-db")
	p.open("/instances/atlas-db")
	take("console-instance", "marek-main")
	p.open("/keys")
	take("console-keys", "atlas-old")
	p.open("/keys/hides-shared")
	take("console-key", "hide-cam-9")
	p.open("/launch?key=marek-main")
	p.fill("Name", "atlas-web-3")
	take("console-launch", "debian@atlas-web-3")
	p.press("Launch")
	p.says("It is up. Log in")
	p.open("/rotations/plan?key=oona-main")
	p.press("Show the plan")
	take("console-rotation-plan", "tide-gauge-1")
	h.must("rotate", "start", "-key", "hides-shared", "-each", "instance", "-make", "service", "-first", "3", "-grace", "48h", "-reason", "end sharing", "-yes")
	p.open("/rotations/" + h.rotation().Id.String())
	take("console-rotation", "the old key goes on")
	p.open("/daybook")
	take("console-daybook", "atlas-web-3")
	p.open("/adopt")
	p.press("A list")
	port := h.instance("song-archive").Connection.Port
	p.paste("CSV with the heading", fmt.Sprintf("name,address,port,login,team\nweather-mast,%s,%d,pi,field\npier-clock,%s,%d,pi,field\nold-buoy,127.0.0.1,1,pi,field\n",
		h.instance("tide-gauge-1").PrivateAddress, port, h.instance("tide-gauge-2").PrivateAddress, port))
	p.press("Ask them for their host keys")
	take("console-adopt", "SHA256:")
	p.dark(true)
	p.open("/map")
	take("console-map-dark", "Steward keys are not drawn")
}
