package sshio

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"math"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/sshio/sshdtest"
)

// TestTransfersWithAHostileMachineEnd has a machine say what no machine should of its files.
func TestTransfersWithAHostileMachineEnd(t *testing.T) {
	t.Parallel()
	const most = 1 << 20
	link := sshdtest.HostileFile{Mode: fs.ModeSymlink | 0o777}
	store := func(ctx context.Context, s *Session) error {
		_, err := s.Store(ctx, "/home/warden/a/tides", true, most, strings.NewReader("4.1"))
		return err
	}
	fetch := func(ctx context.Context, s *Session) error {
		return s.Fetch(ctx, "/home/warden/tides", most, func(r io.Reader, size int64) error {
			n, err := io.Copy(io.Discard, r)
			if n > size || size > most {
				t.Errorf("%d bytes were given of a file of %d", n, size)
			}
			return err
		})
	}
	list := func(ctx context.Context, s *Session) error {
		_, entries, _, err := s.List(ctx, "")
		if len(entries) > MaxListed {
			t.Errorf("%d entries", len(entries))
		}
		return err
	}
	for what, c := range map[string]struct {
		harm sshdtest.Harm
		do   func(context.Context, *Session) error
		want error // nil for any end
	}{
		"a folder without end": {sshdtest.Harm{Crowd: true}, list, ErrTooLong},
		"a folder of one":      {sshdtest.Harm{}, list, nil},
		"links that lead in a ring": {
			sshdtest.Harm{Link: "/home", Files: map[string]sshdtest.HostileFile{"/home": link}}, store, ErrForbidden,
		},
		"a link to a path that is too long": {
			sshdtest.Harm{
				Link: strings.Repeat("/a", 2000), Files: map[string]sshdtest.HostileFile{"/home/warden/a": link},
			}, store, ErrForbidden,
		},
		"a link to the keys": {
			sshdtest.Harm{Link: ".ssh", Files: map[string]sshdtest.HostileFile{"/home/warden/a": link}}, store, ErrKeysFile,
		},
		"a negative size": {
			sshdtest.Harm{Files: map[string]sshdtest.HostileFile{"/home/warden/tides": {Size: -1, Mode: 0o600}}},
			fetch, ErrTooLong,
		},
		"a size of 1<<62": {
			sshdtest.Harm{Files: map[string]sshdtest.HostileFile{"/home/warden/tides": {Size: 1 << 62, Mode: 0o600}}},
			fetch, ErrTooLong,
		},
		"a size of 1<<63": {
			sshdtest.Harm{Files: map[string]sshdtest.HostileFile{"/home/warden/tides": {Size: math.MinInt64, Mode: 0o600}}},
			fetch, ErrTooLong,
		},
		"a file without end": {
			sshdtest.Harm{Files: map[string]sshdtest.HostileFile{
				"/home/warden/tides": {Size: 100, Mode: 0o600, Content: "4.1", Endless: true},
			}}, fetch, nil,
		},
		"a folder where a file should be": {sshdtest.Harm{}, fetch, ErrNotFile},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			h := sshdtest.StartHostile(t, c.harm)
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
			defer cancel()
			s, err := Login(ctx, Target{
				User: "warden", Address: h.Address, Port: h.Port, HostKeys: [][]byte{h.HostKey.Marshal()},
			}, newSigner(t))
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			if err := c.do(ctx, s); c.want != nil && !errors.Is(err, c.want) || ctx.Err() != nil {
				t.Errorf("%v, want %v", err, c.want)
			}
		})
	}
}
