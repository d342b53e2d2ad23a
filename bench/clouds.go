package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sort"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
)

// The cloud of the bench: so many instances, of which every so manyth moves to another address.
const (
	inTheCloud = 20_000
	movesEach  = 50
)

// fakeCloud is an adapter that lists instances out of memory, moved ones at another address.
type fakeCloud struct {
	ids   []string
	moved atomic.Bool
	back  atomic.Bool  // whether those that had moved are where they were
	asked atomic.Int64 // when what it can do was asked for last, in nanoseconds
}

func (f *fakeCloud) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	switch r.URL.Path {
	case "/v1/capabilities":
		f.asked.Store(time.Now().UnixNano())
		io.WriteString(w, `{"name": "the bench's", "capabilities": ["launch", "instance-changes"]}`)
	case "/v1/instance-changes":
		f.changes(w, r.URL.Query().Get("after"))
	case "/v1/instances":
		limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
		if err != nil {
			limit = 200
		}
		after := r.URL.Query().Get("after")
		first := sort.Search(len(f.ids), func(n int) bool { return f.ids[n] > after })
		page := []cloud.Instance{}
		for n := first; n < min(first+limit, len(f.ids)); n++ {
			page = append(page, f.instance(n))
		}
		json.NewEncoder(w).Encode(page)
	default:
		io.WriteString(w, "[]")
	}
}

// changes tells of those that are back, once; the places are how often that was asked for.
func (f *fakeCloud) changes(w io.Writer, after string) {
	out := cloud.InstanceChanges{Instances: []cloud.Instance{}, Next: "1"}
	if after == "1" && f.back.Load() {
		out.Next = "2"
		for n := 0; n < len(f.ids); n += movesEach {
			out.Instances = append(out.Instances, f.instance(n))
		}
	}
	if after == "2" {
		out.Next = "2"
	}
	json.NewEncoder(w).Encode(out)
}

func (f *fakeCloud) instance(n int) cloud.Instance {
	i := cloud.Instance{
		Id: f.ids[n], Name: fmt.Sprintf("board-%05d", n), State: cloud.Running, Image: "debian-12", Size: "small",
		Zone: "north-shore-a", Region: "north-shore", SshPort: 22, KeyLabel: "hides-shared",
		PrivateAddress: fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255),
		PublicAddress:  fmt.Sprintf("198.%d.%d.%d", 18+n>>16, n>>8&255, n&255),
	}
	if n%movesEach == 0 && f.moved.Load() && !f.back.Load() {
		i.PublicAddress = fmt.Sprintf("203.0.%d.%d", n>>8&255, n&255)
	}
	return i
}

// readClouds measures how long it takes to read all that runs in a cloud: none of it recorded, and all of it, of which
// some has moved.
func readClouds(ctx context.Context, dir, database string) error {
	f := &fakeCloud{}
	for n := range inTheCloud {
		f.ids = append(f.ids, fmt.Sprintf("i-%08d", n))
	}
	server := httptest.NewServer(f)
	defer server.Close()
	s, err := startServiceWith(dir, database, "-cloud", server.URL, "-read-clouds-every", "1h")
	if err != nil {
		return err
	}
	defer s.process.Stop(10 * time.Second)
	bare, err := listBare(server.URL)
	if err != nil {
		return err
	}
	fresh, err := s.readMain(ctx)
	if err != nil {
		return err
	}
	if err := recordAll(ctx, database); err != nil {
		return err
	}
	f.moved.Store(true)
	moved, err := s.readMain(ctx)
	if err != nil {
		return err
	}
	again, err := s.readMain(ctx)
	if err != nil {
		return err
	}
	f.back.Store(true)
	part, err := s.readPart(ctx, f, database)
	if err != nil {
		return err
	}
	for _, row := range []struct {
		what string
		took time.Duration
	}{
		{fmt.Sprintf("a list of %d instances of a cloud, only fetched and decoded", inTheCloud), bare},
		{"the same read by the service, none of it recorded before", fresh},
		{fmt.Sprintf("the same, all recorded, %d moved: each told in the daybook", inTheCloud/movesEach), moved},
		{"the same, nothing changed", again},
		{fmt.Sprintf("only what has changed, %d of them back where they were", inTheCloud/movesEach), part},
	} {
		fmt.Printf("| %s | %.2f s |\n", row.what, row.took.Seconds())
	}
	return nil
}

// listBare is what a script would do: fetch and decode all pages.
func listBare(at string) (time.Duration, error) {
	begun, after := time.Now(), ""
	for {
		resp, err := http.Get(at + "/v1/instances?limit=1000&after=" + after)
		if err != nil {
			return 0, err
		}
		var page []cloud.Instance
		err = json.NewDecoder(resp.Body).Decode(&page)
		resp.Body.Close()
		if err != nil || len(page) == 0 {
			return time.Since(begun), err
		}
		after = page[len(page)-1].Id
	}
}

// readMain has the service read its cloud, and returns how long that took.
func (s *service) readMain(ctx context.Context) (time.Duration, error) {
	type read struct {
		Wanted  time.Time  `json:"read_wanted_at"`
		Tried   *time.Time `json:"read_tried_at"`
		Failure string     `json:"read_failure"`
	}
	begun := time.Now()
	var c read
	if err := s.post(ctx, "/api/v1/clouds/main/read", nil, &c); err != nil {
		return 0, err
	}
	for c.Tried == nil || c.Tried.Before(c.Wanted) {
		time.Sleep(20 * time.Millisecond)
		if err := s.get(ctx, "/api/v1/clouds/main", &c); err != nil {
			return 0, err
		}
	}
	if c.Failure != "" {
		return 0, fmt.Errorf("the cloud could not be read: %s", c.Failure)
	}
	return time.Since(begun), nil
}

// readPart has the schedule read what has changed alone, and returns how long that took from the first call on.
func (s *service) readPart(ctx context.Context, f *fakeCloud, database string) (time.Duration, error) {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	before := f.asked.Load()
	if _, err := conn.Exec(
		ctx, "UPDATE clouds SET read_tried_at = now() - interval '2 hours', read_wanted_at = NULL",
	); err != nil {
		return 0, err
	}
	for f.asked.Load() == before {
		time.Sleep(time.Millisecond)
	}
	begun := time.Unix(0, f.asked.Load())
	for {
		var done, part bool
		err := conn.QueryRow(ctx, `SELECT read_tried_at > now() - interval '1 hour',
			coalesce((read_said->>'part')::bool, false) FROM clouds WHERE given`).Scan(&done, &part)
		switch {
		case err != nil:
			return 0, err
		case done && !part:
			return 0, errors.New("more than what has changed was read")
		case done:
			return time.Since(begun), nil
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// recordAll records all that runs in the cloud.
func recordAll(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `INSERT INTO instances (id, name, cloud_id, in_cloud, state, image, size, zone, region,
			login_user, private_address, public_address, ssh_port, static_address, temporary_gib, key_label, labels,
			created_at, created_by, brought_in)
		SELECT id, name, cloud_id, cloud, state, image, size, zone, region, 'debian', private_address, public_address,
			ssh_port, static_address, 0, key_label, '{}', now(), 'bench', true FROM cloud_instances WHERE cloud = $1`,
		record.GivenCloud)
	return err
}
