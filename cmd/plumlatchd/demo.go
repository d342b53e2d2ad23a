package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/demo"
	"plumlatch/internal/hall"
	"plumlatch/internal/service"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// runDemo is the whole house in one folder: database, cloud, service, sample fleet.
func runDemo(ctx context.Context, o settings) (err error) {
	begun := time.Now()
	tell := func(what string) { fmt.Printf("  %5.1f s  %s\n", time.Since(begun).Seconds(), what) }
	tell("starting PostgreSQL on loopback")
	stage, err := demo.Raise(ctx, o.dir)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stage.Clear()) }()
	logFile, err := os.OpenFile(filepath.Join(stage.Dir, "plumlatchd.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	log := slog.New(slog.NewTextHandler(logFile, nil)) // the terminal is for the person
	if err := store.Prepare(ctx, stage.OwnerURL, stage.DatabaseURL); err != nil {
		return err
	}
	if err := loadFleet(ctx, o, stage, log, tell); err != nil {
		return err
	}
	o.safeKey = filepath.Join(stage.Dir, "safe.key")
	tell("starting the stand-in clouds and the service")
	if err := stage.OpenClouds(demo.Latency); err != nil {
		return err
	}
	h, err := openHouse(ctx, stage.DatabaseURL, stage.Shore.URL, stage.Shore.Token, log)
	if err != nil {
		return err
	}
	defer h.close()
	o.cloudURL, o.cloudName = stage.Shore.URL, stage.Shore.Name
	if err := h.furnishBy(ctx, o); err != nil {
		return err
	}
	if err := findMarsh(ctx, h, stage.Marsh); err != nil {
		return err
	}
	var more *machineHall
	if o.machines != "" {
		tell("opening a machine hall: libvirtd in namespaces of its own")
		if more, err = openHall(ctx, h, stage.Dir, o.machines, logFile); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, more.close()) }()
	}
	err = h.serve(ctx, o, func(url string) error {
		if err := writeEnv(ctx, h, stage.Dir, url, stage.Shore.URL); err != nil {
			return err
		}
		tell("ready")
		greet(url, stage.Dir)
		if more != nil {
			return more.launch(ctx, h)
		}
		return nil
	})
	if ctx.Err() != nil {
		fmt.Println("\nStopping the service, the stand-in clouds and PostgreSQL. The data stays in", stage.Dir)
	}
	return err
}

// findMarsh has the service know where the second cloud is now, if it is elsewhere than at the start before.
func findMarsh(ctx context.Context, h *house, marsh *demo.StandIn) error {
	if marsh == nil {
		return nil
	}
	c, err := h.service.Clouds.Cloud(ctx, marsh.Name)
	if err != nil || c.Adapter == marsh.URL {
		return err
	}
	_, err = h.service.Clouds.Change(ctx, people.Actor{Name: "demo", Via: "service"}, marsh.Name, clouds.Wanted{
		Adapter: marsh.URL, Token: marsh.Token, Reason: "the demo was started again",
	})
	return err
}

// loadFleet loads the sample once, with clouds that take no time.
func loadFleet(ctx context.Context, o settings, stage *demo.Stage, log *slog.Logger, tell func(string)) error {
	h, err := openHouse(ctx, stage.DatabaseURL, "", "", log)
	if err != nil {
		return err
	}
	defer h.close()
	box, err := openSafe(filepath.Join(stage.Dir, "safe.key"), "")
	if err != nil {
		return err
	}
	h.furnish(service.Options{Safe: box})
	l := demo.Loader{
		Store:   h.store,
		Service: h.service,
		KeyDir:  filepath.Join(stage.Dir, "keys"),
		Size:    o.demoSize,
		Now:     time.Now(),
		Tell:    tell,
	}
	loaded, err := l.Loaded(ctx)
	if err != nil || loaded {
		return err
	}
	if stage.Marsh == nil || stage.Shed == nil { // nothing was loaded by the version that began here
		return fmt.Errorf("%s was begun by an earlier version and holds no sample fleet: give another folder", stage.Dir)
	}
	if err := stage.OpenClouds(""); err != nil {
		return err
	}
	if l.Shore, err = cloud.Connect(stage.Shore.URL, stage.Shore.Token, cloud.CallTimeout); err != nil {
		return err
	}
	if l.Marsh, err = cloud.Connect(stage.Marsh.URL, stage.Marsh.Token, cloud.CallTimeout); err != nil {
		return err
	}
	if l.Shed, err = cloud.Connect(stage.Shed.URL, stage.Shed.Token, cloud.CallTimeout); err != nil {
		return err
	}
	l.MarshURL, l.MarshToken = stage.Marsh.URL, stage.Marsh.Token
	if err := l.Load(ctx); err != nil {
		return fmt.Errorf("load the sample fleet: %w", err)
	}
	tell("placing steward keys")
	ines, err := h.store.OperatorNamed(ctx, "ines")
	if err == nil {
		work, stopWork := context.WithCancel(ctx)
		defer stopWork()
		if err = h.service.StartRuns(work); err != nil {
			return err
		}
		defer h.service.Stop(ctx)
		err = l.Stewards(ctx, people.Actor{ID: ines.ID, Name: ines.Name, Role: people.Role(ines.Role), Via: "cli"})
	}
	if err != nil {
		return fmt.Errorf("load the sample fleet: %w", err)
	}
	return stage.CloseClouds()
}

// writeEnv writes demo.env, with the tokens of an earlier start where they hold.
func writeEnv(ctx context.Context, h *house, dir, url, cloudURL string) error {
	file := filepath.Join(dir, "demo.env")
	earlier, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	text := fmt.Sprintf(
		"# The stand-in cloud is at %s; its token is in paddock.token.\nexport PLUMLATCH_URL=%s\n", cloudURL, url,
	)
	for _, t := range []struct{ variable, operator string }{
		{"PLUMLATCH_TOKEN", "ines"}, {"PLUMLATCH_TOKEN_OPERATOR", "marek"}, {"PLUMLATCH_TOKEN_VIEWER", "sunniva"},
	} {
		token := assigned(string(earlier), t.variable)
		if _, err := h.service.People.ByToken(ctx, token); err != nil {
			var problem *problem.Problem
			if !errors.As(err, &problem) {
				return err
			}
			if token, err = newToken(ctx, h, t.operator); err != nil {
				return err
			}
		}
		text += "export " + t.variable + "=" + token + "\n"
	}
	text += "export PLUMLATCH_KEYS=" + filepath.Join(dir, "keys") + "\n"
	if err := os.WriteFile(file+".new", []byte(text), 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func assigned(env, variable string) string {
	for l := range strings.Lines(env) {
		if value, ok := strings.CutPrefix(strings.TrimSpace(l), "export "+variable+"="); ok {
			return value
		}
	}
	return ""
}

func newToken(ctx context.Context, h *house, operator string) (string, error) {
	o, err := h.store.OperatorNamed(ctx, operator)
	if err != nil {
		return "", err
	}
	actor := people.Actor{ID: o.ID, Name: o.Name, Role: people.Role(o.Role), Via: "service"}
	_, secret, err := h.service.People.AddToken(
		ctx, actor, journal.IdempotencyKey{}, people.NewToken{Name: "demo-env", Days: 366},
	)
	return secret, err
}

func greet(url, dir string) {
	first := "source " + shorten(filepath.Join(dir, "demo.env"))
	if hall.Inside() {
		first = shorten(filepath.Join(dir, enterFile)) + "      # a shell in the network of the real machines"
	}
	fmt.Printf(
		"\nPlum Latch is at %s, with the sample fleet of the Wrackline Observatory.\nThe cloud is a stand-in; the SSH "+
			"endpoints, the keys and the database are real.\n\nSign in to the console as\n",
		url,
	)
	for _, s := range demo.SignIns() {
		fmt.Printf("  %-9s %-22s (%s)\n", s[0], demo.Password(s[0]), s[1])
	}
	fmt.Printf(`
In another terminal, type first:
  %s
  bin/plumlatch opens hides-shared
  bin/plumlatch instance launch my-first -image debian-12 -size small -new my-key
  bin/plumlatch openers atlas-web-1

Ctrl-C stops all of it and keeps the data.
`, first)
}

// shorten writes a path from here where it lies below.
func shorten(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if short, err := filepath.Rel(here, path); err == nil && !strings.HasPrefix(short, "..") {
		return short
	}
	return path
}
