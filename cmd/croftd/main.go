// Command croftd is an adapter over hosts that run virtual machines with libvirt. See package croft.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"plumlatch/internal/croft"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "croftd:", err)
		os.Exit(1)
	}
}

func run() error {
	if len(os.Args) > 1 && os.Args[1] == "image" {
		return images(os.Args[2:])
	}
	settings := flag.String("settings", "/etc/plumlatch/croftd.yaml", "file with the hosts, the sizes and the token")
	listen := flag.String("listen", "127.0.0.1:0", "address of the API; port 0 picks a free one")
	certificate := flag.String("certificate", "", "certificate in PEM, to listen beyond loopback")
	key := flag.String("certificate-key", "", "private key of the certificate, in PEM")
	check := flag.Bool("check", false, "look at the hosts, say what is missing, and end; nothing is changed")
	takeOver := flag.Bool("take-over", false, "take the hosts from another croftd that is gone for good")
	flag.Parse()
	s, err := croft.ReadSettings(*settings)
	if err != nil {
		return err
	}
	s.TakeOver = *takeOver
	if *check {
		return look(s)
	}
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		return err
	}
	if a, ok := l.Addr().(*net.TCPAddr); *certificate == "" && (!ok || !a.IP.IsLoopback()) {
		return fmt.Errorf("-listen %s: beyond loopback it needs -certificate and -certificate-key", *listen)
	}
	c, err := croft.Open(s, slog.New(slog.NewTextHandler(os.Stderr, nil)))
	if err != nil {
		return err
	}
	defer c.Close()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	server := &http.Server{Handler: c.Handler(), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		server.Close()
	}()
	if *certificate != "" {
		fmt.Printf("https://%s\n", l.Addr())
		err = server.ServeTLS(l, *certificate, *key)
	} else {
		fmt.Printf("http://%s\n", l.Addr())
		err = server.Serve(l)
	}
	if !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// look says what is missing on the hosts.
func look(s croft.Settings) error {
	missing := 0
	for _, f := range croft.Check(context.Background(), s) {
		if f.Wrong == "" {
			fmt.Printf("fine     %-10s %s\n", f.Zone, f.What)
			continue
		}
		missing++
		fmt.Printf("missing  %-10s %s: %s\n         %s\n", f.Zone, f.What, f.Wrong, f.Remedy)
	}
	if missing > 0 {
		return fmt.Errorf("%d missing", missing)
	}
	return nil
}
