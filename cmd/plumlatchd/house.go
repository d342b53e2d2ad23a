package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/httpapi"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service"
	"plumlatch/internal/store"
)

// house is the service with its parts.
type house struct {
	store   *store.Store
	engine  *runs.Engine
	service *service.Service
	cloud   *cloud.Cloud
	log     *slog.Logger
}

func openHouse(ctx context.Context, database, cloudURL, cloudToken string, log *slog.Logger) (*house, error) {
	h := &house{log: log}
	var err error
	if h.cloud, err = cloud.Connect(cloudURL, cloudToken, cloud.CallTimeout); err != nil {
		return nil, err
	}
	if h.store, err = store.Open(ctx, database); err != nil {
		return nil, err
	}
	h.engine = runs.New(h.store, log)
	h.service = service.New(h.store, h.cloud, h.engine, log)
	return h, nil
}

func (h *house) close() { h.store.Close() }

// openSafe opens the safe under the master key in the file or from the command; without
// either it is switched off.
func (h *house) openSafe(file, command string) (err error) {
	switch {
	case command != "":
		h.service.Safe, err = safe.OpenCommand(command)
	case file != "":
		if err = safe.Make(file); err == nil {
			h.service.Safe, err = safe.Open(file)
		}
	}
	if err != nil {
		h.service.Safe = nil
	}
	return err
}

// openIssuer sets up the OpenID Connect issuer, if there is to be one.
func (h *house) openIssuer(ctx context.Context, o settings) error {
	if o.issuer == "" {
		return nil
	}
	secret, err := os.ReadFile(o.clientFile)
	if err != nil {
		return fmt.Errorf("-oidc-client-secret-file: %w", err)
	}
	h.service.Issuer, err = service.OpenIssuer(
		ctx,
		o.issuer,
		o.clientID,
		strings.TrimSpace(string(secret)),
		strings.TrimSuffix(o.publicURL, "/"),
	)
	if err == nil && o.factors != "" {
		h.service.Issuer.Factors = strings.Split(o.factors, ",")
	}
	return err
}

// serve works until ctx ends. ready is called with the address once it answers.
func (h *house) serve(ctx context.Context, o settings, ready func(url string) error) error {
	secure := o.certificate != ""
	h.service.AllowShortRSA = o.shortRSA
	h.service.SweepEvery, h.service.StewardFrom = o.sweepEvery, o.stewardFrom
	h.service.Fresh = time.Duration(o.freshDays) * 24 * time.Hour
	h.service.ReportWithin = o.reportIn
	h.service.SessionLasts, h.service.SessionIdle = o.sessionFor, o.sessionIdle
	if err := errors.Join(h.openSafe(o.safeKey, o.safeCommand), h.openIssuer(ctx, o)); err != nil {
		return err
	}
	handler, err := httpapi.New(
		httpapi.Options{
			Service:   h.service,
			Log:       h.log,
			Version:   version,
			Secure:    secure || strings.HasPrefix(o.publicURL, "https://"),
			PerSecond: o.perSecond,
			Proxies:   o.proxies,
		},
	)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", o.listen)
	if err != nil {
		return err
	}
	defer l.Close()
	url := "http://" + l.Addr().String()
	if secure {
		certificate := &fileCertificate{certificate: o.certificate, key: o.privateKey, log: h.log}
		if _, err := certificate.get(nil); err != nil {
			return err
		}
		l = tls.NewListener(
			l,
			&tls.Config{GetCertificate: certificate.get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}},
		)
		url = "https://" + l.Addr().String()
	}
	work, stopWork := context.WithCancel(context.WithoutCancel(ctx))
	defer stopWork()
	if err := h.service.Start(work); err != nil {
		return err
	}
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: 60 * time.Second,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(h.log.Handler(), slog.LevelInfo),
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	err = ready(url)
	if err == nil {
		select {
		case <-ctx.Done():
		case err = <-failed:
		}
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	h.service.Stop(end)
	stopWork() // ends the streams, which Shutdown would wait for
	if shut := server.Shutdown(end); err == nil {
		err = shut
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}
