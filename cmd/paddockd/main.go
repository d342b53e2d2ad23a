// Command paddockd is the stand-in cloud: a simulation for the demo and the
// tests. See package paddock.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"plumlatch/internal/adapter"
	"plumlatch/internal/faraway"
	"plumlatch/internal/paddock"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "paddockd:", err)
		os.Exit(1)
	}
}

func run() error {
	dir := flag.String("data", "paddock-data", "folder for the state and the disks")
	listen := flag.String("listen", "127.0.0.1:0", "address of the API; port 0 picks a free one")
	tokenFile := flag.String("token-file", "", "file with the token callers must present")
	block := flag.String("block", paddock.DefaultBlock.String(), "loopback range for the instances' addresses")
	latency := flag.String(
		"latency",
		"",
		"how long each phase takes, such as disk=1s,boot=2s; phases: disk instance boot start stop delete agent attach "+
			"detach metadata, and snapshot-gib for each GiB of a copy",
	)
	roundTrip := flag.String(
		"ssh-round-trip", "0",
		"how far away the instances' SSH endpoints are, such as 40ms, or 40ms+5ms with jitter in each direction",
	)
	without := flag.String("without", "", "capabilities to do without, with commas between")
	region := flag.String("region", "", "the only region that it has; all unless given")
	flag.Parse()

	prefix, err := netip.ParsePrefix(*block)
	if err != nil {
		return fmt.Errorf("-block: %w", err)
	}
	slow, err := parseLatency(*latency)
	if err != nil {
		return err
	}
	away, err := faraway.Parse(*roundTrip)
	if err != nil {
		return fmt.Errorf("-ssh-round-trip: %w", err)
	}
	token, err := os.ReadFile(*tokenFile)
	if err != nil {
		return fmt.Errorf("-token-file: %w", err)
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		return err
	}
	if a, ok := l.Addr().(*net.TCPAddr); !ok || !a.IP.IsLoopback() {
		return fmt.Errorf("-listen %s: the stand-in cloud listens on loopback only", *listen)
	}
	cloud, err := paddock.Open(paddock.Options{
		Dir:     *dir,
		Token:   strings.TrimSpace(string(token)),
		Block:   prefix,
		Latency: slow,
		Away:    away,
		Log:     log,
		Region:  *region,
		Without: parseCapabilities(*without),
	})
	if err != nil {
		return err
	}
	defer cloud.Close()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	server := &http.Server{Handler: cloud.Handler(), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		server.Close()
	}()
	fmt.Printf("http://%s\n", l.Addr())
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func parseCapabilities(s string) (out []adapter.Capability) {
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' }) {
		out = append(out, adapter.Capability(part))
	}
	return out
}

func parseLatency(s string) (paddock.Latency, error) {
	var l paddock.Latency
	places := map[string]*time.Duration{
		"disk":     &l.Disk,
		"instance": &l.Instance,
		"boot":     &l.Boot,
		"start":    &l.Start,
		"stop":     &l.Stop,
		"delete":   &l.Delete,
		"agent":    &l.Agent,
		"attach":   &l.Attach, "detach": &l.Detach, "metadata": &l.Metadata, "snapshot-gib": &l.SnapshotGiB,
	}
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' }) {
		name, value, _ := strings.Cut(part, "=")
		place := places[name]
		if place == nil {
			return l, fmt.Errorf("-latency: there is no phase %q", name)
		}
		d, err := time.ParseDuration(value)
		if err != nil || d < 0 {
			return l, fmt.Errorf("-latency: %q is not a duration such as 500ms", part)
		}
		*place = d
	}
	return l, nil
}
