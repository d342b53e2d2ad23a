package main

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
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

// openSafe opens the safe under the master key in the file; "" leaves it switched off.
func (h *house) openSafe(file string) error {
	if file == "" {
		return nil
	}
	err := safe.Make(file)
	if err == nil {
		h.service.Safe, err = safe.Open(file)
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
	if err := h.openSafe(o.safeKey); err != nil {
		return err
	}
	handler, err := httpapi.New(httpapi.Options{Service: h.service, Log: h.log, Version: version, Secure: secure})
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
		certificate, err := tls.LoadX509KeyPair(o.certificate, o.privateKey)
		if err != nil {
			return err
		}
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12})
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
	h.engine.Stop(end)
	stopWork() // ends the streams, which Shutdown would wait for
	if shut := server.Shutdown(end); err == nil {
		err = shut
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}
