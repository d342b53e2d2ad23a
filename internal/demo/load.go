package demo

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/daybook"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/userdata"
	"plumlatch/internal/record"
	"plumlatch/internal/service"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Password returns the demo password of a person. The accounts exist only under -demo.
func Password(name string) string { return name + "-at-wrackline" }

// SignIns says who can sign in, with which role.
func SignIns() [][2]string {
	var out [][2]string
	for _, p := range staff {
		if p.name != "tomas" {
			out = append(out, [2]string{p.name, p.role})
		}
	}
	return out
}

// Loader loads the sample fleet into an empty service and cloud.
type Loader struct {
	Store   *store.Store
	Service *service.Service
	// Shore and Marsh are the clouds of the two regions.
	Shore, Marsh *cloud.Cloud
	// Shed plays machines of no cloud.
	Shed *cloud.Cloud
	// MarshURL and MarshToken are where the adapter of the second is, and what it asks for.
	MarshURL, MarshToken string
	// KeyDir is where private keys that are at hand are written, mode 0600.
	KeyDir string
	// Size is the lowest number of instances; the sample has 24.
	Size int
	Now  time.Time
	// Tell is called with what is being done.
	Tell func(string)

	born  births               // of the logins
	marsh uuid.UUID            // the id of the second cloud
	ids   map[string]uuid.UUID // of the machines that are recorded
}

// Loaded reports whether the fleet is there already. The teams come with the
// last transaction of a load.
func (l *Loader) Loaded(ctx context.Context) (bool, error) {
	_, err := l.Store.HolderNamed(ctx, teams[0].name)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Load launches the machines and then records everything in one transaction, so
// that a load that was interrupted is done again from what there is.
func (l *Loader) Load(ctx context.Context) error {
	machines := l.grow(fleet())
	l.Tell(fmt.Sprintf("making %d key pairs", len(keys)))
	public, err := l.ensureKeys(machines)
	if err != nil {
		return err
	}
	l.Tell(fmt.Sprintf("launching %d stand-in instances", len(machines)))
	launched, err := l.launch(ctx, machines, public)
	if err != nil {
		return err
	}
	if _, err := l.Shore.OpenPort(
		ctx, "demo-"+pierRules, pierRules, pierSource, launched[machines[0].name].instance.SshPort,
	); err != nil {
		return fmt.Errorf("open the SSH port of the tide gauges: %w", err)
	}
	gateway := launched["gateway-1"].instance
	if _, err := l.Shed.OpenPort(
		ctx, "demo-"+innerRules, innerRules, gateway.PrivateAddress+"/32", gateway.SshPort,
	); err != nil {
		return fmt.Errorf("open the SSH port of what is behind the gateway: %w", err)
	}
	if err := l.cloudKeys(ctx, public); err != nil {
		return err
	}
	if err := l.snapshots(ctx, launched); err != nil {
		return err
	}
	if err := l.elsewhere(ctx, public); err != nil {
		return err
	}
	l.Tell("recording three months of history")
	for _, p := range staff {
		// An account that is there from a cut-off load is as good.
		err := l.Service.People.AddOperator(
			ctx, people.Actor{Name: "demo", Via: "service"}, journal.IdempotencyKey{},
			people.NewOperator{Name: p.name, Title: p.title, Password: Password(p.name), Role: people.Role(p.role)},
		)
		var problem *problem.Problem
		if err != nil && !(errors.As(err, &problem) && problem.Code == "name-taken") {
			return err
		}
	}
	if err := l.addMarsh(ctx); err != nil {
		return err
	}
	l.born = births{}
	err = l.Store.InTx(ctx, func(tx *store.Store) error { return l.record(ctx, tx, machines, public, launched) })
	if err != nil {
		return err
	}
	return l.history(ctx)
}

// addMarsh adds the second cloud, as an admin would; one that is there from a cut-off load is as good.
func (l *Loader) addMarsh(ctx context.Context) error {
	c, err := l.Service.Clouds.Add(ctx, people.Actor{Name: "ines", Via: "service"}, clouds.Wanted{
		Name: "south-marsh", Adapter: l.MarshURL, Token: l.MarshToken, Reason: "the boards in the marsh run there",
	})
	var p *problem.Problem
	if errors.As(err, &p) && (p.Code == "name-taken" || p.Code == "adapter-taken") {
		c, err = l.Service.Clouds.Cloud(ctx, "south-marsh")
	}
	l.marsh = c.ID
	return err
}

// elsewhere launches what somebody has launched in the marsh with another tool: nobody has recorded it.
func (l *Loader) elsewhere(ctx context.Context, public map[string]keypair.Public) error {
	group, ctx := errgroup.WithContext(ctx)
	for _, m := range unrecorded {
		group.Go(func() error {
			data, err := userdata.Render(userdata.Config{LoginUser: m.by, Keys: []string{public[m.onDisk[0]].Line()}})
			if err != nil {
				return err
			}
			var up launched
			return launchOne(ctx, l.cloudOf(m.zone), cloud.Launch{
				RequestToken: "demo-elsewhere-" + m.name, Name: m.name, Image: m.image, Size: m.size, Zone: m.zone,
				UserData: &data, KeyLabel: &m.label,
			}, &up)
		})
	}
	return group.Wait()
}

// cloudKeys puts keys into the catalogues of the clouds, and has the marsh hand one to all its machines.
func (l *Loader) cloudKeys(ctx context.Context, public map[string]keypair.Public) error {
	for region, list := range named {
		for _, k := range list {
			if _, err := l.cloudOf(region).AddKeyPair(ctx, region, k.name, public[k.key].Line()); err != nil {
				return fmt.Errorf("the catalogue of %s: %w", region, err)
			}
		}
	}
	groups, err := l.Marsh.KeyGroups(ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		entry := []cloud.MetadataKey{{User: "ubuntu", Line: public[ternSurvey].Line()}}
		if g.Id == "project" {
			err = errors.Join(err, l.Marsh.SetKeyGroup(ctx, g.Id, g.Keys, entry))
		}
	}
	return err
}

// in is what plays a machine.
func (l *Loader) in(m machine) *cloud.Cloud {
	if m.shed {
		return l.Shed
	}
	return l.cloudOf(m.zone)
}

// cloudOf is the cloud that has a zone or a region.
func (l *Loader) cloudOf(zone string) *cloud.Cloud {
	if strings.HasPrefix(zone, "south-marsh") {
		return l.Marsh
	}
	return l.Shore
}

func (l *Loader) idOf(zone string) *uuid.UUID {
	if strings.HasPrefix(zone, "south-marsh") {
		return &l.marsh
	}
	return &record.GivenCloud
}

// snapshots copies some disks, as people do before a change. What an earlier load that
// was interrupted has made is not made again.
func (l *Loader) snapshots(ctx context.Context, machines map[string]launched) error {
	var there []cloud.Snapshot
	for _, c := range []*cloud.Cloud{l.Shore, l.Marsh} {
		list, err := c.Snapshots(ctx)
		if err != nil {
			return err
		}
		there = append(there, list...)
	}
	for _, c := range copies {
		if slices.ContainsFunc(there, func(s cloud.Snapshot) bool { return s.Name == c.name }) {
			continue
		}
		in := l.cloudOf(machines[c.machine].instance.Region)
		op, err := in.MakeSnapshot(ctx, c.name, machines[c.machine].instance.Id, c.name, c.image)
		if _, err = in.Await(ctx, op, err); err != nil {
			return fmt.Errorf("copy the disk of %s: %w", c.machine, err)
		}
	}
	return nil
}

// grow adds machines for load tests, 25 to a key.
func (l *Loader) grow(machines []machine) []machine {
	for n := 1; len(machines) < l.Size; n++ {
		name := fmt.Sprintf("node-key-%d", (n-1)/25+1)
		machines = append(machines, machine{
			name: fmt.Sprintf(
				"field-node-%04d", n,
			), image: "debian-12", size: "small", zone: "south-marsh-a", labels: map[string]string{"team": "load"},
			label: name, onDisk: []string{name}, grants: []grant{{name, seen}}, age: 10, by: "oona",
		})
	}
	return machines
}

// ensureKeys makes the key pairs whose public key is not in the folder yet.
func (l *Loader) ensureKeys(machines []machine) (map[string]keypair.Public, error) {
	if err := os.MkdirAll(l.KeyDir, 0o700); err != nil {
		return nil, err
	}
	wanted := slices.Clone(keys)
	for _, m := range machines {
		for _, n := range m.onDisk {
			if !slices.ContainsFunc(wanted, func(k key) bool { return k.name == n }) {
				wanted = append(wanted, key{name: n, comment: "unknown"})
			}
		}
	}
	wanted = append(wanted, key{name: ternSurvey, comment: "tern survey"})
	public := map[string]keypair.Public{}
	for _, k := range wanted {
		file := filepath.Join(l.KeyDir, strings.Trim(k.name, "()"))
		p, err := readPublic(file + ".pub")
		if errors.Is(err, fs.ErrNotExist) {
			p, err = makeKey(k, file)
		}
		if err != nil {
			return nil, fmt.Errorf("sample key %s: %w", k.name, err)
		}
		public[k.name] = p
	}
	return public, nil
}

func readPublic(file string) (keypair.Public, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return keypair.Public{}, err
	}
	return keypair.ReadLine(string(data))
}

// makeKey writes the private key only where it is at hand.
func makeKey(k key, file string) (keypair.Public, error) {
	if k.spec.Bits == weakRSA {
		weak, err := rsa.GenerateKey(rand.Reader, weakRSA)
		if err != nil {
			return keypair.Public{}, err
		}
		wire, err := ssh.NewPublicKey(weak.Public())
		if err != nil {
			return keypair.Public{}, err
		}
		p, err := keypair.ReadBlob(wire.Marshal())
		if err != nil {
			return p, err
		}
		p.Comment = k.comment
		return p, os.WriteFile(file+".pub", []byte(p.Line()+"\n"), 0o644)
	}
	pair, err := keypair.Make(rand.Reader, k.spec, k.comment)
	if err != nil {
		return keypair.Public{}, err
	}
	if k.atHand {
		text, err := pair.OpenSSH(nil)
		if err != nil {
			return keypair.Public{}, err
		}
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return keypair.Public{}, err
		}
	}
	return pair.Public, os.WriteFile(file+".pub", []byte(pair.Line()+"\n"), 0o644)
}

// launched is what the cloud says of a machine once it is up.
type launched struct {
	instance cloud.Instance
	hostKeys []keypair.Public
	user     string
	scratch  int
}

func (l *Loader) launch(
	ctx context.Context, machines []machine, public map[string]keypair.Public,
) (map[string]launched, error) {
	images, err := l.Shore.Images(ctx)
	if err != nil {
		return nil, err
	}
	sizes, err := l.Shore.Sizes(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]launched, len(machines))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(16)
	for n, m := range machines {
		group.Go(func() error {
			for _, i := range images {
				if i.Name == m.image {
					out[n].user = i.LoginUser
				}
			}
			for _, z := range sizes {
				if z.Name == m.size {
					out[n].scratch = z.TemporaryDiskGib
				}
			}
			var lines []string
			for _, k := range m.onDisk {
				lines = append(lines, public[k].Line())
			}
			data, err := userdata.Render(userdata.Config{LoginUser: out[n].user, Keys: lines})
			if err != nil {
				return err
			}
			request := cloud.Launch{
				RequestToken:  "demo-" + m.name,
				Name:          m.name,
				Image:         m.image,
				Size:          m.size,
				Zone:          m.zone,
				UserData:      &data,
				KeyLabel:      &m.label,
				StaticAddress: &m.static,
			}
			if m.firewall != "" {
				request.Firewall = &m.firewall
			}
			if err := launchOne(ctx, l.in(m), request, &out[n]); err != nil || !m.agent {
				return err
			}
			return l.in(m).PermitAgent(ctx, out[n].instance.Id, true)
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	byName := map[string]launched{}
	for n, m := range machines {
		byName[m.name] = out[n]
	}
	return byName, nil
}

func launchOne(ctx context.Context, in *cloud.Cloud, request cloud.Launch, out *launched) error {
	op, err := in.Launch(ctx, request)
	if op, err = in.Await(ctx, op, err); err != nil {
		return fmt.Errorf("launch %s: %w", request.Name, err)
	}
	if out.instance, err = in.Instance(ctx, op.Instance); err != nil {
		return err
	}
	output, err := in.BootOutput(ctx, op.Instance)
	out.hostKeys = cloud.HostKeys(output)
	return err
}

// record writes the records as three months of work would have left them.
func (l *Loader) record(
	ctx context.Context, tx *store.Store, machines []machine, public map[string]keypair.Public,
	launches map[string]launched,
) error {
	holders := map[string]uuid.UUID{}
	for _, t := range teams {
		if err := tx.AddHolder(ctx, record.Holder{ID: newID(), Name: t.name, Kind: "team", Title: t.title}); err != nil {
			return err
		}
	}
	all, err := tx.Holders(ctx)
	if err != nil {
		return err
	}
	for _, k := range all {
		holders[k.Name] = k.ID
	}
	var b book
	ids := map[string]uuid.UUID{}
	for _, k := range l.recordedKeys(machines) {
		p, holder := public[k.name], holders[k.holder]
		row := record.Key{
			ID:        newID(),
			Name:      k.name,
			Type:      p.Type,
			Algorithm: p.Algorithm,
			Bits:      p.Bits,
			Blob:      p.Blob,
			SHA256:    p.SHA256(),
			MD5:       p.MD5(),
			SPKIMD5:   p.SPKIMD5(),
			Comment:   p.Comment,
			HolderID:  &holder,
			Purpose:   k.purpose,
			Labels:    labelsOf(k.labels),
			Custody:   custody.Holder,
			Origin:    "import",
			State:     custody.Active,
			CreatedAt: l.daysAgo(k.age),
			CreatedBy: k.holder,
		}
		if strings.HasPrefix(k.holder, "team-") {
			row.CreatedBy = "ines"
		}
		if k.proved > 0 {
			at := l.daysAgo(k.proved)
			prover := k.holder
			for _, m := range members {
				if m[0] == k.holder {
					prover = m[1]
				}
			}
			row.ProvedAt, row.ProvedBy = &at, prover
			b.note(at, prover, "key.prove", "key", k.name, nil)
		}
		if err := tx.AddKey(ctx, &row); err != nil {
			return err
		}
		ids[k.name] = row.ID
		b.note(row.CreatedAt, row.CreatedBy, "key.import", "key", k.name, map[string]any{"key": p.Type})
	}
	if err := leave(ctx, tx, "tomas", l.daysAgo(gone)); err != nil {
		return err
	}
	b.note(l.daysAgo(60), "ines", "operator.change", "operator", "tomas", map[string]any{"closed": true})
	for _, m := range members {
		if err := join(ctx, tx, m[0], m[1]); err != nil {
			return err
		}
	}
	l.ids = map[string]uuid.UUID{}
	slices.SortStableFunc(machines, func(a, b machine) int { return strings.Compare(a.via, b.via) }) // jump hosts first
	for _, m := range machines {
		if err := l.recordMachine(ctx, tx, m, launches[m.name], ids, &b); err != nil {
			return err
		}
	}
	slices.SortStableFunc(b.entries, func(a, c record.Entry) int { return a.At.Compare(c.At) })
	return tx.Note(ctx, b.entries...)
}

// leave closes the account of somebody who went without a word of their keys.
func leave(ctx context.Context, tx *store.Store, name string, at time.Time) error {
	o, err := tx.OperatorNamed(ctx, name)
	if err != nil {
		return err
	}
	return tx.CloseOperator(ctx, o.ID, at)
}

func join(ctx context.Context, tx *store.Store, team, person string) error {
	t, err := tx.HolderNamed(ctx, team)
	if err != nil {
		return err
	}
	o, err := tx.OperatorNamed(ctx, person)
	if err != nil {
		return err
	}
	_, err = tx.JoinTeam(ctx, t.ID, o.ID)
	return err
}

func (l *Loader) recordedKeys(machines []machine) []key {
	out := slices.Clone(keys)
	for _, m := range machines {
		for _, g := range m.grants {
			if !slices.ContainsFunc(out, func(k key) bool { return k.name == g.key }) {
				out = append(out, key{name: g.key, holder: "team-field", purpose: "load test", age: 11})
			}
		}
	}
	return out
}

func (l *Loader) recordMachine(
	ctx context.Context, tx *store.Store, m machine, up launched, keyIDs map[string]uuid.UUID, b *book,
) error {
	at := l.daysAgo(m.age)
	i := record.Instance{
		ID:             newID(),
		Name:           m.name,
		CloudID:        up.instance.Id,
		State:          machines.Running,
		Image:          m.image,
		Size:           m.size,
		Zone:           m.zone,
		Region:         up.instance.Region,
		LoginUser:      up.user,
		PrivateAddress: up.instance.PrivateAddress,
		PublicAddress:  up.instance.PublicAddress,
		SSHPort:        up.instance.SshPort,
		StaticAddress:  m.static,
		InCloud:        l.idOf(m.zone),
		TemporaryGiB:   up.scratch,
		KeyLabel:       m.label, Labels: labelsOf(m.labels), CreatedAt: at, CreatedBy: m.by,
	}
	learnt, told, facts := "cloud boot output", "instance.launch", map[string]any{"image": m.image, "size": m.size}
	if m.shed {
		learnt, told = "machine's own screen", "instance.adopt"
		i.CloudID, i.InCloud, i.Adopted, i.StaticAddress = "", nil, true, true
		i.Image, i.Size, i.Zone, i.Region, i.TemporaryGiB = "", "", "", "", 0
		facts = map[string]any{
			"login": up.user, "address": i.PublicAddress, "port": i.SSHPort, "learnt": learnt,
			"host_key": keypair.FormatSHA256(up.hostKeys[0].SHA256()),
		}
		if i.PrivateAddress = ""; m.via != "" {
			i.Via, facts["via"] = new(l.ids[m.via]), m.via
		}
	}
	l.ids[m.name] = i.ID
	if err := tx.AddInstance(ctx, &i); err != nil {
		return err
	}
	login := record.Login{ID: newID(), InstanceID: i.ID, OSUser: up.user}
	if err := tx.AddLogin(ctx, login); err != nil {
		return err
	}
	l.born[login.ID] = at
	var pins []record.HostKey
	for _, k := range up.hostKeys {
		pins = append(pins, record.HostKey{
			ID:         newID(),
			InstanceID: i.ID,
			Algorithm:  k.Algorithm,
			Blob:       k.Blob,
			SHA256:     k.SHA256(),
			Learnt:     learnt,
			PinnedAt:   at,
		})
	}
	if err := tx.PinHostKeys(ctx, pins); err != nil {
		return err
	}
	var grants []record.Grant
	var sightings []record.Sighting
	var names []string
	for _, g := range m.grants {
		wanted := record.Grant{
			ID:        newID(),
			KeyID:     keyIDs[g.key],
			LoginID:   login.ID,
			GrantedAt: at,
			GrantedBy: m.by,
			Reason:    "placed at launch",
		}
		if days := m.until[g.key]; days > 0 {
			wanted.Until, wanted.Reason = new(l.daysAgo(-days)), "cover for the field team"
		}
		grants = append(grants, wanted)
		names = append(names, g.key)
		if g.look != neverLooked {
			sightings = append(sightings, record.Sighting{
				LoginID: login.ID,
				KeyID:   keyIDs[g.key],
				SeenAt:  at.Add(time.Minute),
				Method:  "asked the SSH server",
				Present: g.look == seen,
				Opens:   true,
			})
		}
	}
	for _, k := range m.past {
		over := l.daysAgo(36)
		grants = append(grants, record.Grant{
			ID:          newID(),
			KeyID:       keyIDs[k],
			LoginID:     login.ID,
			GrantedAt:   at,
			GrantedBy:   m.by,
			Reason:      "placed at launch",
			WithdrawnAt: &over,
			WithdrawnBy: "oona",
		})
		b.note(over, "oona", "grant.withdraw", "login", up.user+"@"+m.name, map[string]any{"key": k})
	}
	if !m.shed {
		facts["keys"] = names
	}
	b.note(at, m.by, told, "instance", m.name, facts)
	if !m.shed {
		b.note(at.Add(time.Minute), m.by, "instance.launched", "instance", m.name, map[string]any{"by": m.by})
	}
	if err := tx.AddGrants(ctx, grants); err != nil {
		return err
	}
	return tx.PutSightings(ctx, sightings)
}

func labelsOf(l map[string]string) map[string]string {
	if l == nil {
		return map[string]string{}
	}
	return l
}

// daysAgo returns a moment of a working day so long ago.
func (l *Loader) daysAgo(n int) time.Time {
	return l.Now.AddDate(0, 0, -n).Truncate(24 * time.Hour).Add(8*time.Hour + time.Duration(n*37%480)*time.Minute)
}

func newID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// book collects entries of the daybook, to be written in the order of time.
type book struct {
	entries []record.Entry
}

func (b *book) note(at time.Time, person, told, kind, subject string, facts map[string]any) {
	about := []string{kind + ":" + subject}
	if _, instance, ok := strings.Cut(subject, "@"); ok && kind == "login" {
		about = append(about, "instance:"+instance)
	}
	b.entries = append(b.entries, record.Entry{
		At:          at,
		Person:      person,
		Via:         "cli",
		Action:      daybook.Action(told),
		SubjectKind: kind,
		Subject:     subject,
		Outcome:     "done",
		Told:        told,
		Details:     facts,
		About:       about,
	})
}
