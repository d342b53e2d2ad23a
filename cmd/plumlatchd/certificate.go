package main

import (
	"crypto/tls"
	"log/slog"
	"os"
	"sync"
	"time"
)

// fileCertificate is a TLS certificate that is read again when its files have changed. A
// pair that cannot be read, such as half of a new one, leaves the one before in use.
type fileCertificate struct {
	certificate, key string
	log              *slog.Logger

	mu     sync.Mutex
	loaded *tls.Certificate
	of     [2]time.Time // when the files of the loaded one were changed
	looked time.Time
}

const lookEvery = time.Second

func (f *fileCertificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.loaded != nil && time.Since(f.looked) < lookEvery {
		return f.loaded, nil
	}
	f.looked = time.Now()
	changed, err := f.changed()
	if err == nil && (f.loaded == nil || changed != f.of) {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(f.certificate, f.key); err == nil {
			if f.loaded != nil {
				f.log.Info("a new TLS certificate is in use", "file", f.certificate)
			}
			f.loaded, f.of = &pair, changed
		}
	}
	if f.loaded == nil {
		return nil, err
	}
	if err != nil {
		f.log.Warn("the TLS certificate cannot be read again; the one before stays in use", "err", err)
	}
	return f.loaded, nil
}

func (f *fileCertificate) changed() (of [2]time.Time, err error) {
	for i, file := range []string{f.certificate, f.key} {
		info, err := os.Stat(file)
		if err != nil {
			return of, err
		}
		of[i] = info.ModTime()
	}
	return of, nil
}
