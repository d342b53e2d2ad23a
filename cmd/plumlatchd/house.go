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
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/store"
)

// house is the service with its parts.
type house struct {
	store   *store.Store
	engine  *runs.Engine
	service *service.Service
	cloud   *cloud.Cloud // nil where the service is started without one
	log     *slog.Logger
}

func openHouse(ctx context.Context, database, cloudURL, cloudToken string, log *slog.Logger) (*house, error) {
	h := &house{log: log}
	var err error
	if cloudURL != "" {
		if h.cloud, err = cloud.Connect(cloudURL, cloudToken, cloud.CallTimeout); err != nil {
			return nil, err
		}
	}
	if h.store, err = store.Open(ctx, database); err != nil {
		return nil, err
	}
	h.engine = runs.New(h.store, log)
	return h, nil
}

func (h *house) close() { h.store.Close() }

// furnish makes the service over what was opened.
func (h *house) furnish(o service.Options) {
	h.service = service.New(h.store, h.cloud, h.engine, h.log, o)
}

// openSafe opens the safe under the safe key in the file or from the command; it is nil without
// either, for one that is switched off.
func openSafe(file, command string) (*safe.Safe, error) {
	switch {
	case command != "":
		return safe.OpenCommand(command)
	case file != "":
		if err := safe.Make(file); err != nil {
			return nil, err
		}
		return safe.Open(file)
	}
	return nil, nil
}

// openIssuer sets up the OpenID Connect issuer; nil where there will be none.
func openIssuer(ctx context.Context, o settings) (*people.Issuer, error) {
	if o.issuer == "" {
		return nil, nil
	}
	secret, err := os.ReadFile(o.clientFile)
	if err != nil {
		return nil, fmt.Errorf("-oidc-client-secret-file: %w", err)
	}
	issuer, err := people.OpenIssuer(
		ctx, o.issuer, o.clientID, strings.TrimSpace(string(secret)), strings.TrimSuffix(o.publicURL, "/"),
	)
	if err == nil && o.factors != "" {
		issuer.Factors = strings.Split(o.factors, ",")
	}
	return issuer, err
}

// furnishBy makes the service as the settings say.
func (h *house) furnishBy(ctx context.Context, o settings) error {
	box, err := openSafe(o.safeKey, o.safeCommand)
	if err != nil {
		return err
	}
	issuer, err := openIssuer(ctx, o)
	if err != nil {
		return err
	}
	post, err := o.mail.options(o.publicURL)
	if err != nil {
		return err
	}
	h.furnish(service.Options{
		Mail:            post,
		People:          people.Options{Issuer: issuer, SessionLasts: o.sessionFor, SessionIdle: o.sessionIdle},
		Keys:            keys.Options{AllowShortRSA: o.shortRSA, StewardFrom: o.stewardFrom},
		Safe:            box,
		Visits:          o.visits,
		Clouds:          clouds.Options{Adapter: o.cloudURL, Name: o.cloudName, Plain: o.plainCloud},
		SweepEvery:      o.sweepEvery,
		ReadCloudsEvery: o.readClouds,
		KeepReadings:    time.Duration(o.keepDays) * 24 * time.Hour,
		Fresh:           time.Duration(o.freshDays) * 24 * time.Hour,
		ReportWithin:    o.reportIn,
	})
	return nil
}

// serve works until ctx ends, once the house is furnished. ready is called with the address once it answers.
func (h *house) serve(ctx context.Context, o settings, ready func(url string) error) error {
	secure := o.certificate != ""
	handler, err := httpapi.New(httpapi.Options{
		Service:   h.service,
		Log:       h.log,
		Version:   version,
		Secure:    secure || strings.HasPrefix(o.publicURL, "https://"),
		PerSecond: o.perSecond,
		Proxies:   o.proxies,
	})
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
	failed := make(chan error, 2)
	go func() { failed <- server.Serve(l) }()
	if o.outside != nil {
		go func() { failed <- server.Serve(o.outside) }()
	}
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
