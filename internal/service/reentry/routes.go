package reentry

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/route"
	"plumlatch/internal/sshio"
)

// RoutesWanted says for which login ways back in are looked for, and within which limits.
type RoutesWanted struct {
	// Login is user@instance, or an instance for its image's own login.
	Login string
	restore.Limits
	// Lost are keys that are taken for lost, beside those that the records tell of.
	Lost []string
	// Rehearse is whether to try what can be tried without touching anything.
	Rehearse bool
}

// Routes are the ways back into a login.
type Routes struct {
	Login    record.Login
	Name     string
	Instance record.Instance
	State    reach.State
	Options  []restore.Option
	// Worry says what is bad about the best; "" where nothing is.
	Worry string
	// Lost are the keys in place that nobody can use, as far as the records tell.
	Lost []record.ReachKey
	// Runs are what else is known to run there: labels, and logins with keys.
	Labels map[string]string
	// Rehearsed is what was tried; empty unless it was wanted.
	Rehearsed []Rehearsal
}

// Rehearsal is one thing that was tried for a route without touching anything.
type Rehearsal struct {
	Route  restore.Route
	What   string
	Works  bool
	Detail string
}

// Routes looks for the ways back into a login, ranks them, and says why.
func (s *Service) Routes(ctx context.Context, w RoutesWanted) (Routes, error) {
	l, i, err := s.fleet.LoginNamed(ctx, w.Login)
	if err != nil {
		return Routes{}, err
	}
	f, out, err := s.restoreFacts(ctx, l, i, w.Lost)
	if err != nil {
		return Routes{}, err
	}
	out.Options = s.route.Ways.Rank(f, w.Limits)
	out.Worry = restore.Worry(s.route.Ways.Rank(f, restore.Limits{}))
	if w.Rehearse {
		out.Rehearsed = s.rehearse(ctx, l, i, f, out.Options)
	}
	return out, nil
}

// restoreFacts gathers what is known of a login, its instance and its cloud. The keys
// named are taken for lost.
func (s *Service) restoreFacts(
	ctx context.Context, l record.Login, i record.Instance, lost []string,
) (restore.Facts, Routes, error) {
	out := Routes{Login: l, Name: fleet.LoginName(l.OSUser, i.Name), Instance: i, Labels: i.Labels}
	f := restore.Facts{
		Login:         out.Name,
		Instance:      i.Name,
		Adopted:       i.Adopted,
		State:         i.State,
		TemporaryGiB:  i.TemporaryGiB,
		Static:        i.StaticAddress,
		PublicAddress: i.PublicAddress,
	}
	if err := s.keyFacts(ctx, l, i, lost, &f, &out); err != nil {
		return f, out, err
	}
	var err error
	if f.Took, err = s.tookBefore(ctx); err != nil {
		return f, out, err
	}
	var wait sync.WaitGroup
	if i.State == machines.Running { // asked while the cloud is
		wait.Go(func() {
			if problem.Guard(
				s.log,
				"asking "+out.Name+" for passwords",
				func() error { f.Passwords = s.takesPasswords(ctx, i, l.OSUser); return nil },
			) != nil {
				f.Passwords = restore.Unknown
			}
		})
	}
	if !i.Adopted {
		err = s.cloudFacts(ctx, i, &f)
	}
	wait.Wait()
	return f, out, err
}

// keyFacts tells who could let somebody in, and which keys seem lost.
func (s *Service) keyFacts(
	ctx context.Context, l record.Login, i record.Instance, lost []string, f *restore.Facts, out *Routes,
) error {
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{l.ID})
	if err != nil {
		return err
	}
	w, err := s.access.World(ctx, record.ReachFilter{Instance: i.ID})
	if err != nil {
		return err
	}
	for n, k := range w.Keys {
		w.Input.Keys[n].Lost = w.Input.Keys[n].Lost || slices.Contains(lost, k.Name)
	}
	place := w.LoginPlace(l.ID)
	if place >= 0 {
		out.State = reach.Standings(w.Input)[place].State
	}
	in := w.Input
	in.Now, in.Fresh = s.now(), s.Fresh
	holding := reach.HoldingOf(in, place)
	for _, k := range holding.Fresh {
		f.Holders = append(f.Holders, restore.Holder{Key: w.Keys[k].Name, Holder: *w.Keys[k].HolderName})
	}
	for _, k := range holding.Authorities {
		f.Holders = append(f.Holders, restore.Holder{
			Key: w.Keys[k].Name, Holder: *w.Keys[k].HolderName, Certifies: true,
		})
	}
	for _, k := range holding.Lost {
		out.Lost = append(out.Lost, w.Keys[k])
	}
	elsewhere := found[0].Steward != nil && found[0].StewardUser() != l.OSUser // by which it acts for this login
	f.Steward = (holding.Steward || elsewhere) && s.access.NoMeans(found[0]) == nil
	return nil
}

// takesPasswords asks the SSH server whether it takes passwords.
func (s *Service) takesPasswords(ctx context.Context, i record.Instance, user string) restore.Answer {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	takes, err := sshio.TakesPasswords(ctx, s.fleet.Target(i, user))
	switch {
	case err != nil:
		return restore.Unknown
	case takes:
		return restore.Yes
	}
	return restore.No
}

// cloudFacts asks the cloud what it can do and the state of the instance.
func (s *Service) cloudFacts(ctx context.Context, i record.Instance, f *restore.Facts) error {
	can, images, err := s.clouds.Outline(ctx, i.InCloud)
	if err != nil {
		return problem.FromCloud(err)
	}
	s.offerFacts(can, images, i.Image, f)
	c := s.clouds.Of(i.InCloud)
	now, err := c.Instance(ctx, i.CloudID)
	if err != nil {
		return problem.FromCloud(err)
	}
	f.State, f.Static, f.PublicAddress = machines.State(now.State), now.StaticAddress, now.PublicAddress
	if f.Can.Agent && f.Agent != restore.AgentAbsent {
		state, err := c.Agent(ctx, i.CloudID)
		if err != nil {
			return problem.FromCloud(err)
		}
		f.Agent = restore.AgentState(state)
	}
	if f.Can.Disks {
		disks, err := c.Disks(ctx, i.CloudID)
		if err != nil {
			return problem.FromCloud(err)
		}
		f.Disk = rootOf(disks, i.CloudID)
	}
	if f.Can.Firewall && f.Can.Shell {
		rules, err := c.FirewallRules(ctx)
		if err != nil {
			return problem.FromCloud(err)
		}
		f.ShellAdmitted = route.Admits(rules, now, f.ShellRange)
	}
	return nil
}

// offerFacts takes over what is the same for all instances of an image.
func (s *Service) offerFacts(can cloud.Capabilities, images []cloud.Image, name string, f *restore.Facts) {
	has := func(c cloud.Capability) bool { return slices.Contains(can.Capabilities, c) }
	f.Can = restore.Abilities{
		StartStop: has(
			cloud.CanStartStop,
		), Launch: has(cloud.CanLaunch),
		Disks:     has(cloud.CanDisks),
		Snapshots: has(cloud.CanSnapshots),
		Addresses: has(cloud.CanAddresses),
		Firewall: has(
			cloud.CanFirewall,
		), Agent: has(cloud.CanGuestAgent),
		Metadata:  has(cloud.CanMetadata),
		Shell:     has(cloud.CanShell),
		Passwords: has(cloud.CanPasswords),
	}
	if can.ShellRange != nil {
		f.ShellRange = *can.ShellRange
	}
	f.Agent = restore.AgentAbsent
	for _, image := range images {
		if image.Name != name {
			continue
		}
		f.Windows = image.Family == "windows"
		f.MetadataImage = image.MetadataKeys != nil && *image.MetadataKeys
		f.ShellImage = image.BrowserShell != nil && *image.BrowserShell
		if image.GuestAgent {
			f.Agent = restore.AgentUnknown
		}
	}
	var offered []restore.HelperCandidate
	for _, i := range images {
		if beside(i, images, name) {
			offered = append(offered, candidateOf(i))
		}
	}
	f.HelperImage = restore.HelperImage(offered, name)
}

// beside reports whether an image can be launched where the named one can.
func beside(i cloud.Image, images []cloud.Image, name string) bool {
	at := slices.IndexFunc(images, func(own cloud.Image) bool { return own.Name == name })
	if at < 0 || i.Zones == nil || images[at].Zones == nil {
		return true
	}
	return slices.ContainsFunc(*i.Zones, func(z string) bool { return slices.Contains(*images[at].Zones, z) })
}

func candidateOf(i cloud.Image) restore.HelperCandidate {
	return restore.HelperCandidate{Name: i.Name, GuestAgent: i.GuestAgent, Windows: i.Family == "windows"}
}

func rootOf(disks []cloud.Disk, instance string) restore.Disk {
	for _, d := range disks {
		for _, a := range d.Attachments {
			if a.Instance == instance && a.Root {
				return restore.Disk{
					Known:      true,
					Encrypted:  d.Encrypted,
					Shared:     len(d.Attachments) > 1,
					Device:     a.Device,
					Filesystem: d.Filesystem,
					GiB:        d.SizeGib,
				}
			}
		}
	}
	return restore.Disk{}
}

// tookBefore returns what the operations of the cloud took before.
func (s *Service) tookBefore(ctx context.Context) (map[restore.Operation]time.Duration, error) {
	times, err := s.store.StepTimes(ctx)
	if err != nil {
		return nil, err
	}
	steps := make([]restore.StepTime, len(times))
	for n, t := range times {
		took := time.Duration(t.Seconds * float64(time.Second))
		steps[n] = restore.StepTime{Kind: t.Kind, Step: t.Name, Took: took, Size: t.Size}
	}
	return restore.TookBefore(steps), nil
}

// outlook is all that the best way back into a login depends on, as far as the records
// and the cloud's offers tell.
type outlook struct {
	cloud           uuid.UUID
	image           string
	temporary       int
	static          bool
	steward, holder bool
}

// offered is what a cloud offers, or why that is not known.
type offered struct {
	can    cloud.Capabilities
	images []cloud.Image
	err    error
}

// Worries returns what says of a login what is bad about its best way back in, without
// asking about any instance. Where the cloud does not answer, it says nothing.
func (s *Service) Worries(ctx context.Context) func(record.ReachLogin, reach.Standing) string {
	offers := map[uuid.UUID]*offered{}
	known := map[outlook]string{}
	return func(l record.ReachLogin, st reach.Standing) string {
		if l.InCloud == nil {
			return ""
		}
		from := offers[*l.InCloud]
		if from == nil {
			from = &offered{}
			from.can, from.images, from.err = s.clouds.OutlineSoon(ctx, l.InCloud)
			offers[*l.InCloud] = from
		}
		if from.err != nil || l.Adopted || l.State != machines.Running {
			return ""
		}
		o := outlook{*l.InCloud, l.Image, l.TemporaryGiB, l.Static, st.Steward && s.Safe != nil, st.Holders > 0}
		worry, judged := known[o]
		if !judged {
			f := restore.Facts{
				State:        machines.Running,
				TemporaryGiB: l.TemporaryGiB,
				Static:       l.Static,
				Passwords:    restore.No,
				Steward:      o.steward,
				Disk:         restore.Disk{Known: true, GiB: 1},
			}
			s.offerFacts(from.can, from.images, l.Image, &f)
			if o.holder {
				f.Holders = []restore.Holder{{}}
			}
			worry = restore.Worry(s.route.Ways.Rank(f, restore.Limits{}))
			known[o] = worry
		}
		return worry
	}
}

// rehearse tries what can be tried without touching anything.
func (s *Service) rehearse(
	ctx context.Context, l record.Login, i record.Instance, f restore.Facts, options []restore.Option,
) []Rehearsal {
	var out []Rehearsal
	try := func(r restore.Route, what string, do func() (string, error)) {
		detail := ""
		err := problem.Guard(s.log, "rehearsing at "+i.Name, func() (err error) { detail, err = do(); return err })
		if err != nil {
			detail = text.Line(err.Error(), text.MaxLine)
		}
		out = append(out, Rehearsal{r, what, err == nil, detail})
	}
	for _, o := range options {
		if !o.Possible() {
			continue
		}
		what, do := s.route.Rehearse(route.Rehearsing{Login: l, Instance: i, Facts: f, Option: o})
		if do != nil {
			try(o.Route, what, func() (string, error) { return do(ctx) })
		}
	}
	return out
}
