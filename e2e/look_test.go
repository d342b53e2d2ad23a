package e2e

import ("testing";"os";"time")

func TestLook(t *testing.T) {
	url := os.Getenv("LOOK_URL")
	if url == "" { t.Skip() }
	p := openBrowser(t, url)
	p.open("/"); p.says("Sign in"); p.shoot("/tmp/l-signin.png")
	p.signIn("ines", "ines-at-wrackline")
	p.says("atlas-db"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-instances.png")
	p.open("/instances/atlas-db"); p.says("marek-main"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-instance.png")
	p.open("/keys"); p.says("atlas-old"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-keys.png")
	p.open("/keys/hides-shared"); p.says("hide-cam-9"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-key.png")
	p.open("/launch"); p.says("What will be launched"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-launch.png")
	p.open("/daybook"); p.says("Newest first"); time.Sleep(500*time.Millisecond); p.shoot("/tmp/l-daybook.png")
	p.open("/keys"); p.press("New key"); p.says("Type this on"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-new.png")
	p.press("Import a public key"); p.says("one line of"); time.Sleep(200*time.Millisecond); p.shoot("/tmp/l-import.png")
	p.dark(true); p.open("/instances"); p.says("atlas-db"); time.Sleep(300*time.Millisecond); p.shoot("/tmp/l-dark.png")
}
