package store_test

import (
	"crypto/sha256"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// TestALimitedPersonWritesWithinTheLimitAndReadsNothingBeyond writes settings, acceptances and host keys of an instance
// within the limit, and looks for those of one beyond it.
func TestALimitedPersonWritesWithinTheLimitAndReadsNothingBeyond(t *testing.T) {
	s, _, _ := openAsService(t)
	ctx := t.Context()
	limited := store.WithLimit(ctx, store.Limit{Labels: map[string]string{"team": "cameras"}, Person: "runa"})
	for name, c := range map[string]struct {
		team string
		want int // of each
	}{"within": {"cameras", 1}, "beyond": {"web", 0}} {
		i := record.Instance{
			ID: uuid.Must(uuid.NewV7()), Name: c.team + "-1", Labels: map[string]string{"team": c.team}, CreatedAt: begin,
			State: "running", LoginUser: "debian",
		}
		must(t, s.AddInstance(ctx, &i))
		l := record.Login{ID: uuid.Must(uuid.NewV7()), InstanceID: i.ID, OSUser: "debian"}
		must(t, s.AddLogin(ctx, l))
		writes := ctx
		if c.want > 0 {
			writes = limited
		}
		for n, program := range []string{"/opt/one", "/opt/two"} {
			must(t, s.PutServers(writes, []record.LoginServer{{
				LoginID: l.ID, Server: reading.Server{KeysCommand: program}, ReadAt: begin.Add(time.Duration(n) * time.Hour),
			}}))
		}
		_, err := s.AcceptWay(writes, record.AcceptedWay{
			LoginID: l.ID, Kind: reading.WayProgram, Name: "/opt/two", Text: "a program", At: begin, By: "runa", Reason: "ours",
		})
		must(t, err)
		for _, blob := range []string{name + " first", name + " second"} {
			sum := sha256.Sum256([]byte(blob))
			must(t, s.ReplaceHostKeys(writes, i.ID, []record.HostKey{{
				ID: uuid.Must(uuid.NewV7()), InstanceID: i.ID, Algorithm: "ssh-ed25519", Blob: []byte(blob), SHA256: sum[:],
				Learnt: "a test", PinnedAt: begin,
			}}, record.FormerHostKey{ReplacedAt: begin, ReplacedBy: "runa", Reason: "set up again"}))
		}
		servers, err := s.AllServers(limited, []uuid.UUID{l.ID})
		must(t, err)
		ways, err := s.AcceptedWays(limited, []uuid.UUID{l.ID})
		must(t, err)
		former, err := s.FormerHostKeys(limited, i.ID, 10)
		must(t, err)
		pinned, err := s.HostKeys(limited, i.ID)
		must(t, err)
		if len(servers[l.ID]) != 2*c.want || len(ways[l.ID]) != c.want || len(former) != c.want || len(pinned) != c.want {
			t.Errorf(
				"%s the limit: %d settings, %d ways, %d former and %d pinned host keys", name, len(servers[l.ID]),
				len(ways[l.ID]), len(former), len(pinned),
			)
		}
	}
}
