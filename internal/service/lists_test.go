package service_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/service/servicetest"
	"plumlatch/internal/service/settle"
	"plumlatch/internal/store"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

// fill records so many of everything that a list is of.
func fill(t *testing.T, o *servicetest.Office, n int) {
	t.Helper()
	ctx, at := t.Context(), o.Now()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	var items []record.RotationItem
	first := record.Rotation{
		ID: store.NewID(), State: rotation.Running, RequestedBy: "ines", CreatedAt: at,
		Settings: rotation.Settings{AtOnce: 1, Zone: "UTC"},
	}
	var running []record.CloudInstance
	var groups []record.KeyGroup
	var gate *uuid.UUID // the first, by way of which all others are reached
	for i := range n {
		name := fmt.Sprintf("door-%d", i)
		running = append(running, record.CloudInstance{
			CloudID: fmt.Sprintf("i-%03d", i), Name: name, State: "running", SSHPort: 22, KeyGroups: []string{"group-0"},
			TakesGroupKeys: true,
		})
		groups = append(groups, record.KeyGroup{
			GroupID: fmt.Sprintf("group-%d", i), Name: "a group", Kind: "group",
			Keys: []record.GroupKey{{OSUser: "debian", SHA256: []byte(name), Line: "a line", Comment: name}},
		})
		instance := record.Instance{
			ID: store.NewID(), Name: name, State: "running", LoginUser: "debian", Adopted: true,
			PublicAddress: "127.0.0.1", SSHPort: 22, Labels: map[string]string{}, CreatedAt: at, CreatedBy: "ines",
			Via: gate,
		}
		if gate == nil {
			gate = &instance.ID
		}
		must(o.Store.AddInstance(ctx, &instance))
		login := record.Login{ID: store.NewID(), InstanceID: instance.ID, OSUser: "debian"}
		must(o.Store.AddLogin(ctx, login))
		k := o.Keep(fmt.Sprintf("key-%d", i), "ines", nil)
		must(o.Store.AddGrants(ctx, []record.Grant{{
			ID: store.NewID(), KeyID: k.ID, LoginID: login.ID, GrantedAt: at, GrantedBy: "ines",
		}}))
		must(o.Store.PutSightings(ctx, []record.Sighting{{
			LoginID: login.ID, KeyID: k.ID, SeenAt: at, Method: "a test", Present: i%2 == 0, Opens: true,
		}}))
		run := record.Run{
			ID: store.NewID(), Kind: "start", InstanceID: instance.ID, State: runs.Done, Version: 1, RequestedBy: "ines",
			Payload: []byte(`{}`), PayloadVersion: 1, CreatedAt: at, EndedAt: &at,
		}
		step := record.RunStep{Name: "look", Title: "Look", State: runs.StepDone}
		begin := func() {
			run.ID = store.NewID()
			step.RunID = run.ID
			run.Steps = []record.RunStep{step}
			must(o.Store.AddRun(ctx, run))
		}
		begin()
		run.Kind = "restore"
		run.Payload = []byte(`{"route":"standing-key","login":"` + login.ID.String() + `","login_name":"debian@` + name +
			`","key":"` + k.ID.String() + `","key_name":"` + k.Name + `","journal":{}}`)
		begin()
		other := first
		other.ID = store.NewID()
		item := record.RotationItem{
			ID: store.NewID(), RotationID: other.ID, LoginID: login.ID, OldKeyID: &k.ID, OldName: k.Name, NewName: "new",
			State: rotation.ItemWaiting, Means: "steward key",
		}
		must(o.Store.AddRotation(ctx, other, []record.RotationItem{item}))
		item.ID, item.RotationID, item.Seq = store.NewID(), first.ID, i
		items = append(items, item)
		must(o.Store.AddHolder(ctx, record.Holder{ID: store.NewID(), Name: fmt.Sprintf("team-%d", i), Kind: "team"}))
	}
	must(o.Store.AddRotation(ctx, first, items))
	_, err := o.Store.PutCloudInstances(ctx, record.GivenCloud, running, at)
	must(err)
	must(o.Store.PutKeyGroups(ctx, record.GivenCloud, groups))
	must(o.Store.Note(ctx, o.Journal.Entry(o.Ines.By(), "key.make", "key", "key-0", "", nil)))
	rotationOfAll = first
}

// rotationOfAll is the rotation that has an item for each login.
var rotationOfAll record.Rotation

// TestAListOfFiftyCostsNoMoreStatementsThanOneOfFive counts what each list sends to the database.
func TestAListOfFiftyCostsNoMoreStatementsThanOneOfFive(t *testing.T) {
	page := record.Page{Limit: 100, Total: true}
	lists := map[string]func(ctx context.Context, o *servicetest.Office) (n int, err error){
		"keys": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Keys.List(ctx, record.KeyFilter{}, page)
			return len(l.Items), err
		},
		"instances": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Fleet.List(ctx, record.InstanceFilter{}, page)
			return len(l.Items), err
		},
		"what runs in the clouds": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Inventory.List(ctx, "", record.CloudInstanceFilter{}, page)
			return len(l.Items), err
		},
		"keys of groups": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.CloudKeys.Groups(ctx, "main")
			return len(l), err
		},
		"what is behind a jump host": func(ctx context.Context, o *servicetest.Office) (int, error) {
			w, err := o.Jumps.List(ctx)
			if err != nil {
				return 0, err
			}
			l, err := o.Fleet.List(ctx, record.InstanceFilter{Via: w.Hosts[0].Name}, page)
			return len(l.Items), err
		},
		"grants": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Access.Grants(ctx, record.GrantFilter{}, page)
			return len(l.Items), err
		},
		"differences": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Settle.Differences(ctx, record.DifferenceFilter{}, page)
			return 2 * len(l.Items), err
		},
		"settling, of what the service cannot change": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Settle.Differences(ctx, record.DifferenceFilter{}, page)
			var choices []settle.Choice
			for _, d := range l.Items {
				choices = append(choices, settle.Choice{
					Login: d.OSUser + "@" + d.InstanceName, SHA256: keypair.FormatSHA256(d.SHA256), Status: d.Status,
					Choice: reach.Place,
				})
			}
			if err != nil {
				return 0, err
			}
			settled, _, err := o.Settle.Settle(ctx, o.Ines, choices, "")
			return 2 * len(settled), err
		},
		"reach": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Access.Reach(ctx, access.ReachWanted{Limit: 100})
			return len(l.Items), err
		},
		"proofs due": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Access.ProofsDue(ctx, o.Ines, "", 1, page)
			return len(l.Items), err
		},
		"runs": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Runs.List(ctx, record.RunFilter{}, page)
			return len(l.Items), err
		},
		"restores": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Reentry.Restores(ctx, record.RunFilter{}, page)
			return len(l.Items), err
		},
		"rotations": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Rotate.Rotations(ctx, "", page)
			return len(l.Items), err
		},
		"items of a rotation": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Rotate.RotationItems(ctx, rotationOfAll.ID, "", page)
			return len(l.Items), err
		},
		"a rotation's plan": func(ctx context.Context, o *servicetest.Office) (int, error) {
			wanted := rotate.RotationWanted{Selection: rotation.Selection{Holder: "ines"}}
			p, err := o.Rotate.PlanRotation(ctx, wanted)
			return len(p.Items), err
		},
		"the report of a rotation": func(ctx context.Context, o *servicetest.Office) (int, error) {
			r, err := o.Rotate.ReportRotation(ctx, rotationOfAll.ID)
			return len(r.NotDone), err
		},
		"routes": func(ctx context.Context, o *servicetest.Office) (int, error) {
			_, err := o.Reentry.Routes(ctx, reentry.RoutesWanted{Login: "debian@door-0"})
			return 50, err
		},
		"holders": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.People.Holders(ctx)
			return len(l), err
		},
		"the daybook": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Journal.List(ctx, record.EntryFilter{}, page)
			return 50 * len(l.Items), err
		},
		"a loss": func(ctx context.Context, o *servicetest.Office) (int, error) {
			var names []string
			for n := range 5 {
				names = append(names, fmt.Sprintf("key-%d", n))
			}
			_, err := o.Access.Loss(ctx, names, "")
			return 50, err
		},
		"who leaves": func(ctx context.Context, o *servicetest.Office) (int, error) {
			l, err := o.Leaving.Leaving(ctx, "ines")
			return len(l.Items), err
		},
	}
	few, many := servicetest.NewOffice(t), servicetest.NewOffice(t)
	fill(t, few, 5)
	ofFew := rotationOfAll
	fill(t, many, 50)
	ofMany := rotationOfAll
	for name, list := range lists {
		count := func(o *servicetest.Office, of record.Rotation, least int) int {
			t.Helper()
			rotationOfAll = of
			ctx, statements := store.Counting(t.Context())
			n, err := list(ctx, o)
			if err != nil || n < least {
				t.Errorf("%s: %d are listed, want %d at least: %v", name, n, least, err)
			}
			return statements.Count()
		}
		a, b := count(few, ofFew, 4), count(many, ofMany, 40)
		t.Logf("%-26s %2d statements", name, b)
		if b > a || b == 0 {
			t.Errorf("%s: a list of 50 costs %d statements and one of 5 costs %d, want no more", name, b, a)
		}
	}
}
