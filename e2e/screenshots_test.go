package e2e

import (
	"errors"
	"flag"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/demo"
)

var screenshots = flag.String("screenshots", "", "folder for the console's pictures; none are taken unless given")

// diskIn is the disk of an instance below a folder.
func diskIn(t *testing.T, dir, instance string) (disk string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, "/etc/hostname") {
			return nil // PostgreSQL's folder is not ours to read
		}
		if text, err := os.ReadFile(name); err == nil && strings.TrimSpace(string(text)) == instance {
			disk = strings.TrimSuffix(name, "/etc/hostname")
		}
		return nil
	})
	if err != nil || disk == "" {
		t.Fatalf("no disk of %s: %v", instance, err)
	}
	return disk
}

// TestScreenshots takes a picture of every page from the demo.
func TestScreenshots(t *testing.T) {
	if *screenshots == "" {
		t.Skip("no folder was given with -screenshots")
	}
	if err := os.MkdirAll(*screenshots, 0o755); err != nil {
		t.Fatal(err)
	}
	data := demoDir(t)
	_, h := startDemo(t, data)
	p := openBrowser(t, h.url)
	take := func(name, ready string) {
		t.Helper()
		p.says(ready)
		p.holds(
			"the page to settle",
			`!document.querySelector(".ant-spin-spinning") && document.getAnimations()
				.every((a) => a.effect.getTiming().iterations === Infinity)`,
		)
		p.shoot(filepath.Join(*screenshots, name+".png"))
	}
	// stack puts pictures of a group of pages under one another, in one file.
	stack := func(name string, parts ...string) {
		t.Helper()
		files := make([]string, len(parts))
		for n, part := range parts {
			files[n] = filepath.Join(*screenshots, part+".png")
		}
		if err := stackPictures(filepath.Join(*screenshots, name+".png"), files); err != nil {
			t.Fatal(err)
		}
	}
	p.signIn("marek", demo.Password("marek"))
	p.open("/")
	take("console-reach", "tide-gauge-3")
	p.open("/logins/ubuntu@ringing-web")
	take("console-login", "The first reading was on")
	p.open("/drift")
	take("console-drift", "missing")
	h.bringIn(t, "pump-house", "pier-key")
	p.open("/logins/warden@pump-house")
	take("console-ways-in", "What else lets somebody in")
	p.open("/terminals/ubuntu@atlas-web-1")
	p.press("A key for this visit")
	p.press("Open the terminal")
	for _, line := range []string{"id", "uptime", "ls -l /etc/ssh"} {
		p.types(line)
	}
	take("console-terminal", "sshd_config")
	p.press("End it")
	p.says("The terminal is closed")
	stack("console-login-and-drift", "console-login", "console-ways-in", "console-drift", "console-terminal")
	p.open("/grants")
	take("console-grants", "cover for the field team")
	p.open("/proofs")
	take("console-to-prove", "never proved")
	file := filepath.Join("..", "docs", "examples", "charters", "atlas", "access.yaml")
	h.must("charter", "settle", file, "-yes", "-reason", "the atlas team keeps its access in a file")
	p.open("/charters/compare")
	const web = "]\n    logins: [ubuntu"
	p.fill("Or paste one", strings.Replace(read(t, file), "marek-main"+web, "oona-main"+web, 1))
	p.press("Compare")
	take("console-compare", "withdraw the key")
	p.open("/charters/atlas")
	take("console-charter", "the atlas team keeps its access in a file")
	stack("console-grants-and-proofs", "console-grants", "console-to-prove", "console-compare", "console-charter")
	p.open("/instances")
	take("console-instances", "atlas-db")
	p.open("/instances/atlas-db")
	take("console-instance", "marek-main")
	h.user(diskIn(t, data, "ringing-web"), "deploy", "1001", "/bin/sh", h.pairOutside("lars@lamp")+"\n")
	h.client("sweep", "ringing-web")
	p.open("/instances/ringing-web")
	p.says("deploy@ringing-web")
	p.holds("the end of the page", `(window.scrollTo(0, document.body.scrollHeight), true)`)
	take("console-instance-users", "At a date")
	stack("console-instances-and-one", "console-instances", "console-instance", "console-instance-users")
	p.open("/keys")
	take("console-keys", "atlas-old")
	p.open("/keys/hides-shared")
	take("console-key", "hide-cam-9")
	p.open("/keys?holder=marek")
	p.press("All of them are lost")
	take("console-loss", "1 of them shut")
	stack("console-keys-and-one", "console-keys", "console-key", "console-loss")
	p.open("/launch?key=marek-main")
	p.fill("Name", "atlas-web-3")
	take("console-launch", "debian@atlas-web-3")
	p.press("Launch")
	p.says("It is up. Log in")
	p.open("/rotations/plan?goal=weak")
	take("console-rotation-plan", "hide-cam-9")
	h.must(
		"rotate",
		"start",
		"-key",
		"hides-shared",
		"-each",
		"instance",
		"-make",
		"service",
		"-first",
		"3",
		"-then-go",
		"-grace",
		"48h",
		"-reason",
		"end sharing",
		"-yes",
	)
	p.open("/rotations/" + h.rotation().Id.String())
	take("console-rotation", "the old key is removed on")
	stack("console-rotation-plan-and-live", "console-rotation-plan", "console-rotation")
	h.must(
		"rotate", "start", "-key", "gateway-field", "-each", "instance", "-make", "service", "-reason",
		"one for each gateway", "-yes",
	)
	p.open("/rotations/" + h.rotation().Id.String() + "/report")
	take("console-report", "gateway-field-kit")
	h.client("rotate", "start", "-key", "oona-main", "-make", "bring", "-reason", "yearly", "-detach", "-yes")
	p.open("/rotations/asked")
	take("console-asked", "oona-main-2")
	stack("console-report-and-asked", "console-report", "console-asked")
	h.must(
		"rule", "add", "quarterly", "-older", "95d", "-grace", "48h", "-between", "22:00-04:00", "-zone",
		"Europe/Berlin", "-make", "bring",
	)
	h.must("rule", "add", "no-short-rsa", "-weaker-than", "rsa2048", "-label", "team=atlas")
	p.open("/rotations/rules")
	take("console-rules", "no-short-rsa")
	p.open("/rotations/calendar")
	take("console-calendar", "All that is due")
	stack("console-rules-and-calendar", "console-rules", "console-calendar")
	p.open("/logins/debian@tide-gauge-3/routes")
	take("console-ways-back", "nothing stops, nothing is lost")
	p.press("Take this way: Guest agent")
	p.fill("Why, for the daybook", "tomas has left, and nobody else had a key")
	p.press("Begin")
	p.says("Open right now")
	take("console-restore", "Place the new line")
	p.says("is open again")
	p.press("Report")
	take("console-restore-report", "Confirmed closed")
	stack("console-restore-and-report", "console-restore", "console-restore-report")
	p.open("/daybook?live=true")
	take("console-daybook", "Following")
	p.open("/adopt")
	p.press("A list")
	port := h.instance("song-archive").Connection.Port
	p.paste("CSV with the heading", fmt.Sprintf(
		"name,address,port,login,team\n"+
			"weather-mast,%s,%d,pi,field\npier-clock,%s,%d,pi,field\nold-buoy,127.0.0.1,1,pi,field\n",
		h.instance("tide-gauge-1").PrivateAddress,
		port,
		h.instance("tide-gauge-2").PrivateAddress,
		port,
	))
	p.press("Ask them for their host keys")
	take("console-adopt", "SHA256:")
	h.must("cloud", "read", "south-marsh")
	p.open("/bring-in?cloud=south-marsh")
	p.says("tern-counts")
	p.tick("All that are shown")
	p.press("Bring in 4 instances")
	p.press("Show what would be recorded")
	take("console-bring-in", "debian@tern-cam-1")
	stack("console-launch-and-adopt", "console-launch", "console-adopt", "console-bring-in")
	p.dark(true)
	p.open("/map")
	take("console-map", "Steward keys are not drawn")
	p.dark(false)
	p.open("/")
	p.press("Find\nCtrl K")
	p.insert("tide")
	take("console-find", "tide-gauge-2")
	stack("console-reach-and-map", "console-reach", "console-map", "console-find")
	h.settingsToShow(t)
	p.open("/sign-in")
	p.fill("Name", "ines")
	p.fill("Password", demo.Password("ines"))
	p.press("Sign in")
	p.says("ines, admin")
	p.open("/settings")
	take("console-you", "Tokens for programs")
	p.open("/settings/people")
	take("console-people", "Runa Lund")
	p.open("/settings/custody")
	take("console-custody", "the deploy job moves")
	p.open("/settings/subscribers")
	take("console-subscribers", "pager")
	p.open("/settings/clouds")
	p.says("south-marsh")
	p.holds("a cloud is opened", `(document.querySelectorAll(".ant-table-row-expand-icon")[1].click(), true)`)
	take("console-clouds", "It calls itself")
	p.open("/settings/clouds/south-marsh/keys")
	p.says("the whole project")
	take("console-cloud-keys", "tern-survey")
	p.open("/settings/jump-hosts")
	take("console-jump-hosts", "gateway-1")
	p.open("/instances/nest-recorder")
	p.says("oona adopted nest-recorder")
	p.holds("the end of the page", `(window.scrollTo(0, document.body.scrollHeight), true)`)
	take("console-timeline", "What has happened to it")
	p.open("/settings/visits")
	take("console-visits", "ubuntu@atlas-web-1")
	stack(
		"console-settings", "console-you", "console-people", "console-custody", "console-visits", "console-subscribers",
		"console-clouds", "console-cloud-keys", "console-jump-hosts", "console-timeline",
	)
	p.open("/settings/people/marek/leaving")
	take("console-leaving", "Still to do")
	stack("console-daybook-and-leaving", "console-daybook", "console-leaving")
}

// settingsToShow adds what the sample fleet's settings lack to be looked at.
func (h *house) settingsToShow(t *testing.T) {
	t.Helper()
	word := writeFile(t, filepath.Join(h.dir, "word"), password)
	h.must(
		"operator", "add", "runa", "-role", "operator", "-limit", "team=cameras", "-title", "Runa Lund, cameras",
		"-password-file", word, "-confirm-file", writeFile(t, filepath.Join(h.dir, "own"), demo.Password("ines")),
	)
	h.must(
		"subscriber", "add", "pager", "https://hooks.wrackline.example/latch", "-kind", "login-shut", "-kind",
		"left-open",
	)
	h.must("subscriber", "add", "log", "udp://127.0.0.1:5514", "-kind", "all")
	h.must("rotate", "start", "-key", "atlas-deploy", "-make", "service", "-reason", "yearly", "-yes")
	h.must("consent", "label", "team=atlas")
	h.must("key", "hand-over", "id_rsa_2", "oona", "-reason", "she runs the ringing tables now")
	admin := h.token
	h.token = h.signIn("marek", demo.Password("marek"))
	if r := h.client("consent", "ask", "atlas-deploy-2", "-reason", "the deploy job moves"); r.status != 3 {
		t.Fatal(r)
	}
	h.token = admin
}

// stackPictures puts PNG files under one another in one, and removes them.
func stackPictures(to string, files []string) error {
	var pictures []image.Image
	width, height := 0, 0
	for _, file := range files {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		picture, err := png.Decode(f)
		if err := errors.Join(err, f.Close(), os.Remove(file)); err != nil {
			return err
		}
		picture = withoutEmptyEnd(picture)
		pictures = append(pictures, picture)
		width, height = max(width, picture.Bounds().Dx()), height+picture.Bounds().Dy()
	}
	out := image.NewRGBA(image.Rect(0, 0, width, height))
	top := 0
	for _, picture := range pictures {
		draw.Draw(out, image.Rect(0, top, width, top+picture.Bounds().Dy()), picture, picture.Bounds().Min, draw.Src)
		top += picture.Bounds().Dy()
	}
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	return errors.Join(png.Encode(f, out), f.Close())
}

// withoutEmptyEnd cuts off the rows below the last one that differs from the lowest,
// but for a margin.
func withoutEmptyEnd(picture image.Image) image.Image {
	const margin = 24
	b := picture.Bounds()
	end := b.Max.Y
	for same := true; same && end > b.Min.Y; {
		end--
		for x := b.Min.X; x < b.Max.X && same; x++ {
			same = picture.At(x, end) == picture.At(x, b.Max.Y-1)
		}
	}
	part, ok := picture.(interface {
		SubImage(image.Rectangle) image.Image
	})
	if !ok {
		return picture
	}
	return part.SubImage(image.Rect(b.Min.X, b.Min.Y, b.Max.X, min(end+margin, b.Max.Y)))
}
