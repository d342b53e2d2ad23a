// Package rotate holds the commands that replace keys, and those of rotation rules.
package rotate

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
)

var RotateCommands = []kit.Command{
	{
		Name: "rotate goals", Flags: rotateGoals,
		Summary: "Show how many keys are old, weak, shared or lost, and what to type to replace them",
		Detail:  "Keys that are in place nowhere, and are granted nowhere, do not count.",
		Examples: []string{
			"plumlatch rotate goals", "plumlatch rotate goals -older 365d", "plumlatch rotate goals -weaker-than rsa4096",
		},
	},
	{
		Name: "rotate plan", Flags: rotatePlan,
		Summary: "Preview a rotation, login by login",
		Detail:  rotateDetail,
		Examples: []string{
			"plumlatch rotate plan -key hides-shared -each instance", "plumlatch rotate plan -older 180d -label team=atlas",
			"plumlatch rotate plan -weaker-than rsa3072",
			"plumlatch rotate plan -shared",
			"plumlatch rotate plan -key marek-main -to marek-2",
		},
	},
	{
		Name: "rotate start", Flags: rotateStart,
		Summary: "Start a rotation, after showing its plan",
		Detail: rotateDetail + `
The maker of a private key has it. So new keys are made on this machine (-make here) where you hold
the old ones: their private keys are written to ~/.ssh with mode 0600, and this command completes a login
with each of them before it removes the old key. Keys of others are made by the service, or asked of them
where it has no safe; -make here -mine makes them yours. With -make service the service makes and
keeps them in its safe and logs in itself; their holders take them out with: plumlatch key private NAME.
With -make bring each holder is asked for a new public key (plumlatch rotate asked), and the rotation
continues when it arrives. With -to an existing key replaces them all; its holder shows that it opens each
login: plumlatch prove LOGIN. Files are edited by the steward key; where there is none, from
this machine with the old private key (-from-here -with FILE), else by the guest agent. The
plan says which. The old line is removed only after a completed login with the new key and
the grace period. A login that fails stays open by its old key, and
holds up no other.`,
		Examples: []string{
			"plumlatch rotate start -key hides-shared -each instance -first 3",
			"plumlatch rotate start -lost -urgent -make service",
			"plumlatch rotate start -key tide-old -from-here -with ~/.ssh/tide-old",
			"plumlatch rotate start -older 180d -grace 48h -between 22:00-04:00 -zone Europe/Berlin -stop-after 5",
		},
	},
	{
		Name:     "rotate list",
		Flags:    rotateList,
		Summary:  "List rotations, the newest first",
		Examples: []string{"plumlatch rotate list"},
	},
	{
		Name:    "rotate show",
		Args:    "[NAME|ID]",
		Max:     1,
		Flags:   rotateShow,
		Summary: "Show the progress of a rotation, the newest by default",
		Examples: []string{
			"plumlatch rotate show",
			"plumlatch rotate show hides-shared",
			"plumlatch rotate show hides-shared -state failed",
		},
	},
	{
		Name: "rotate watch", Args: "[NAME|ID]", Max: 1, Flags: rotateWatch,
		Summary: "Watch a rotation, and test new keys held on this machine by logging in",
		Detail: "It watches the newest rotation, or the newest of a login, an instance or an old key. Anybody with " +
			"some of the new private keys can " +
			"watch, and proves the logins that they open.",
		Examples: []string{"plumlatch rotate watch", "plumlatch rotate watch debian@tide-gauge-1"},
	},
	{
		Name:     "rotate pause",
		Args:     "NAME|ID",
		Min:      1,
		Max:      1,
		Flags:    rotateChange("pause"),
		Summary:  "Pause a rotation; no new logins start until you resume it",
		Examples: []string{"plumlatch rotate pause hides-shared"},
	},
	{
		Name:     "rotate resume",
		Args:     "NAME|ID",
		Min:      1,
		Max:      1,
		Flags:    rotateChange("resume"),
		Summary:  "Resume a paused rotation, including one that failures in its first group paused",
		Examples: []string{"plumlatch rotate resume hides-shared"},
	},
	{
		Name:     "rotate retry",
		Args:     "NAME|ID",
		Min:      1,
		Max:      1,
		Flags:    rotateChange("retry"),
		Summary:  "Retry the failed logins of a rotation, or one of them",
		Examples: []string{"plumlatch rotate retry hides-shared -login debian@tide-gauge-1"},
	},
	{
		Name:    "rotate override",
		Args:    "NAME|ID",
		Min:     1,
		Max:     1,
		Flags:   rotateOverride,
		Summary: "Remove a lost key's line before anybody has logged in with the new key",
		Detail: `This is the only exception to the rule that a line is removed only after a completed login
with another key. It is for a lost or compromised key, for one login that you name, with a
reason; the daybook and the report record it. The new line must be in place there. If the
new key does not open the login after all, the login is shut.`,
		Examples: []string{
			`plumlatch rotate override oona-main -login debian@tide-gauge-1 -reason "laptop stolen, its holder is at sea"`,
		},
	},
	{
		Name:  "rotate report",
		Args:  "[NAME|ID]",
		Max:   1,
		Flags: rotateReport,
		Summary: "Report what a rotation replaced where, when and by whom, the proofs, what  " +
			"was not done, and where an old key may still live",
		Examples: []string{
			"plumlatch rotate report",
			"plumlatch rotate report hides-shared",
			"plumlatch rotate report hides-shared -json > report.json",
		},
	},
	{
		Name:     "rotate asked",
		Flags:    rotateAsked,
		Summary:  "List the public keys that holders are asked for",
		Examples: []string{"plumlatch rotate asked", "plumlatch rotate asked -holder me"},
	},
	{
		Name:    "rotate bring",
		Args:    "NAME [FILE]",
		Min:     1,
		Max:     2,
		Flags:   rotateBring,
		Summary: "Bring a new public key that a rotation asks for, from a file or made here",
		Detail:  "FILE is a public key, or a private one of which only the public key is sent.",
		Examples: []string{
			"plumlatch rotate bring marek-main-2 -new",
			"plumlatch rotate bring marek-main-2 ~/.ssh/id_ed25519.pub",
		},
	},
	{
		Name:    "rotate undo",
		Args:    "NAME|ID",
		Min:     1,
		Max:     1,
		Flags:   rotateChange("undo"),
		Summary: "Undo a rotation: remove each new key whose old key is still in place",
		Detail:  "Logins that are done stay as they are: their old key is gone.",
		Examples: []string{
			"plumlatch rotate undo hides-shared -yes",
			"plumlatch rotate undo hides-shared -login debian@tide-gauge-1",
		},
	},
}

const rotateDetail = `Say which keys (all conditions must match): -key, -holder, -type, -older, -weaker-than, -shared,
-lost; and where: -instance, -label, -region. The options of their lines are kept.`

// wantedFlags say which keys will be replaced, where, and by what.
type wantedFlags struct {
	keys, instances         kit.Names
	holder, typ, weaker     string
	older                   kit.Days
	label, region, each, to string
	names                   string
	overlap                 string
	lost, shared            bool
	fromHere, urgent        bool
}

func (w *wantedFlags) flags(f *flag.FlagSet) {
	f.Var(&w.keys, "key", "a `key` to replace on every login; can be given several times")
	f.StringVar(&w.holder, "holder", "", "keys of this holder")
	f.StringVar(&w.typ, "type", "", "keys of this type: ed25519, rsa, ecdsa")
	f.Var(&w.older, "older", "keys recorded longer ago than this `age`, such as 180d")
	f.StringVar(&w.weaker, "weaker-than", "", "keys weaker than this `strength`, such as rsa3072")
	f.BoolVar(&w.lost, "lost", false, "keys that are marked as lost")
	f.BoolVar(&w.shared, "shared", false, "keys that are on more than one instance")
	f.Var(&w.instances, "instance", "only on this `instance`; can be given several times")
	f.StringVar(&w.label, "label", "", "only on instances with this label, `name=value`")
	f.StringVar(&w.region, "region", "", "only in this region")
	f.StringVar(&w.each, "each", "key", "one new key for each old `key`, or one for each instance, which ends sharing")
	f.StringVar(&w.to, "to", "", "an existing `key` that replaces them all")
	f.StringVar(
		&w.names, "names", "",
		"a `pattern` for the names of new keys, such as {key}-{year}; also {instance}, {holder}, {month}, {day}",
	)
	f.BoolVar(
		&w.fromHere, "from-here", false,
		"where there is no steward key, change lines from this machine with the old private key (-with or -agent)",
	)
	f.BoolVar(
		&w.urgent, "urgent", false,
		"for lost keys: no grace, no hours, no first group, and an override where nobody can log in with the new key",
	)
	f.StringVar(
		&w.overlap, "overlap", "leave-out",
		"`what` to do with a login that another rotation is changing: leave-out, or wait for it",
	)
}

func (w *wantedFlags) wanted() (apiclient.RotationWanted, error) {
	out := apiclient.RotationWanted{
		Holder:     kit.Optional(w.holder),
		Type:       kit.Optional(w.typ),
		WeakerThan: kit.Optional(w.weaker),
		Label:      kit.Optional(w.label),
		Region:     kit.Optional(w.region),
		To:         kit.Optional(w.to),
		Names:      kit.Optional(w.names),
	}
	if len(w.keys) > 0 {
		out.Keys = new([]string(w.keys))
	}
	if len(w.instances) > 0 {
		out.Instances = new([]string(w.instances))
	}
	if w.lost {
		out.Lost = &w.lost
	}
	if w.shared {
		out.Shared = &w.shared
	}
	switch w.each {
	case "key":
	case "instance":
		out.Each = new(apiclient.RotationWantedEachInstance)
	default:
		return out, kit.Usage(fmt.Sprintf("-each is key or instance, not %q", w.each))
	}
	if w.fromHere {
		out.FromHere = &w.fromHere
	}
	if w.urgent {
		out.Urgent = &w.urgent
	}
	switch w.overlap {
	case "leave-out":
	case "wait":
		out.Overlap = new(apiclient.RotationWantedOverlapWait)
	default:
		return out, kit.Usage(fmt.Sprintf("-overlap is leave-out or wait, not %q", w.overlap))
	}
	if w.older > 0 {
		out.OlderDays = new(int(w.older))
	}
	if len(w.keys) == 0 && w.holder == "" && w.typ == "" && w.older == 0 && w.weaker == "" && !w.lost && !w.shared {
		return out, kit.Usage("say which keys: -key, -holder, -type, -older, -weaker-than, -shared or -lost")
	}
	return out, nil
}

// startFlags are those of a start, which a plan takes as well: what is planned is what is started.
type startFlags struct {
	wantedFlags
	settingsFlags
	kit.LocalKeyFlags
	maker, reason string
	mine          bool
	yes, detach   bool
}

func (t *startFlags) flags(f *flag.FlagSet) {
	t.wantedFlags.flags(f)
	t.settingsFlags.flags(f)
	t.LocalKeyFlags.Flags(f)
	f.StringVar(
		&t.maker, "make", "",
		"`where` new keys come from: here (made on this machine), service (made and kept by it), or bring (asked of each "+
			"holder); here where all old keys are yours, else service or, without a safe, bring",
	)
	f.BoolVar(&t.mine, "mine", false, "with -make here, hold the new keys yourself, also those for keys of others")
	f.StringVar(&t.reason, "reason", "", "why, for the daybook")
	f.BoolVar(&t.yes, "yes", false, "do not ask")
	f.BoolVar(&t.detach, "detach", false, "do not wait for the end")
}

// planned asks the service for the plan, which refuses what a start would.
func (t *startFlags) planned(
	ctx context.Context, client *apiclient.Client,
) (apiclient.RotationPlan, apiclient.StartRotation, error) {
	request := apiclient.StartRotation{Settings: new(t.settings()), Reason: kit.Optional(t.reason)}
	if t.mine {
		request.Holder = new(apiclient.NewHolderMine)
	}
	var err error
	if request.Wanted, err = t.wanted(); err != nil {
		return apiclient.RotationPlan{}, request, err
	}
	plan := apiclient.PlanRotation{Wanted: request.Wanted, Settings: request.Settings, Holder: request.Holder}
	if t.maker != "" {
		plan.Make = new(apiclient.PlanRotationMake(t.maker))
	}
	p, err := kit.Answer[apiclient.RotationPlan](client.PlanRotation(ctx, plan))
	request.Make = apiclient.StartRotationMake(p.Make)
	return p, request, err
}

// check refuses what is written wrong.
func (t *startFlags) check() error {
	switch {
	case !slices.Contains([]string{"", "here", "service", "bring"}, t.maker):
		return kit.Usage(fmt.Sprintf("-make is here, service or bring, not %q", t.maker))
	case t.mine && t.maker != "here":
		return kit.Usage("-mine goes with -make here")
	case t.thenGo && t.first == 0:
		return kit.Usage("-then-go goes with -first N")
	case !t.fromHere && t.Given():
		return kit.Usage("-with and -agent go with -from-here, which edits with the old private key")
	}
	_, err := t.wanted()
	return err
}

func rotatePlan(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var t startFlags
	t.flags(f)
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		if err := t.check(); err != nil {
			return err
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		p, _, err := t.planned(ctx, client)
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(p)
		}
		showPlan(s, p)
		if !s.Quiet && p.Logins > 0 {
			t.show(s, p)
		}
		if p.LeftOut > 0 {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
}

// show says how a start would go about the plan.
func (t *startFlags) show(s *kit.Session, p apiclient.RotationPlan) {
	var lines []string
	switch {
	case len(p.NewKeys) == 0:
	case p.Make == apiclient.RotationPlanMakeHere:
		lines = append(lines, "New keys are made on this machine; their private keys are written to ~/.ssh.")
	case p.Make == apiclient.RotationPlanMakeService:
		lines = append(lines, "New keys are made by the service, which keeps their private keys in its safe.")
	case p.Make == apiclient.RotationPlanMakeBring:
		lines = append(lines, "Each holder is asked for a new public key.")
	}
	for _, h := range p.Pending {
		lines = append(lines, pendingText(h))
	}
	if t.first > 0 {
		var group []string
		for _, i := range p.Items {
			if i.LeftOut == nil && len(group) < t.first {
				group = append(group, i.Login)
			}
		}
		rest := "the rest waits for your word: plumlatch rotate resume " + group[0]
		if t.thenGo {
			rest = "the rest begins when all of them are done"
		}
		lines = append(lines, fmt.Sprintf("First %s; %s.", strings.Join(group, ", "), rest))
	}
	if t.between != "" {
		lines = append(lines, fmt.Sprintf("Only between %s, %s.", t.between, cmp.Or(t.zone, "UTC")))
	}
	if t.grace.Duration > 0 {
		lines = append(lines, fmt.Sprintf("An old line is removed %s after a login with the new key.", t.grace.Duration))
	}
	if t.stopAfter > 0 {
		lines = append(lines, fmt.Sprintf("It pauses after %s.", text.Counted(t.stopAfter, "failure")))
	}
	for _, l := range lines {
		s.Below("", l, kit.AsItIs)
	}
}

// pendingText says what a holder has to do before they get in by the new keys.
func pendingText(h apiclient.PendingHolder) string {
	where := text.Counted(h.Logins, "login")
	names := strings.Join(h.Keys[:min(len(h.Keys), 3)], ", ")
	if more := len(h.Keys) - 3; more > 0 {
		names += fmt.Sprintf(" and %d more", more)
	}
	switch h.Does {
	case apiclient.PendingHolderDoesTake:
		return fmt.Sprintf(
			"%s gets in to %s only after taking out %s: plumlatch key private %s", h.Holder, where, names, h.Keys[0],
		)
	case apiclient.PendingHolderDoesTakeOver:
		return fmt.Sprintf(
			"%s no longer gets in to %s by these keys; hand them over: plumlatch key hand-over %s %s", h.Holder, where,
			h.Keys[0], h.Holder,
		)
	}
	return fmt.Sprintf("%s keeps the old keys at %s until the new public keys are there.", h.Holder, where)
}

func showPlan(s *kit.Session, p apiclient.RotationPlan) {
	if s.Quiet {
		for _, i := range p.Items {
			if i.LeftOut == nil {
				fmt.Fprintln(s.Env.Out, i.Login)
			}
		}
		return
	}
	if len(p.Items) == 0 {
		fmt.Fprintln(s.Env.Out, "No such key is in place anywhere.")
		return
	}
	t := kit.Table{
		Head:  []string{"LOGIN", "OLD KEY", "HOLDER", "NEW KEY", "BY", "REACH", "AFTER", "TAKES"},
		Least: []string{"TAKES", "BY", "HOLDER", "REACH"},
	}
	known := false // how long it takes, or what it waits for
	for _, i := range p.Items {
		if i.LeftOut == nil {
			takes := seconds(i.ExpectedSeconds)
			if i.WaitsFor != nil {
				takes = strings.TrimSpace(takes + " after another rotation")
			}
			known = known || takes != ""
			t.Add(
				i.Login, i.Old, kit.Given(i.Holder), kit.Given(i.New), kit.Given(i.Means), string(i.ReachBefore),
				string(kit.Given(i.ReachAfter)), takes,
			)
		}
	}
	if !known {
		t.Head[len(t.Head)-1] = ""
	}
	if len(t.Rows) > 0 {
		t.Write(s)
	}
	if p.LeftOut > 0 {
		fmt.Fprintf(s.Env.Out, "\nLeft out:\n")
		left := kit.Table{
			Head:  []string{"LOGIN", "KEY", "WHY", "WHAT TO DO"},
			Least: []string{"KEY"}, Wraps: []string{"WHY", "WHAT TO DO"},
		}
		for _, i := range p.Items {
			if i.LeftOut != nil {
				left.Add(i.Login, i.Old, *i.LeftOut, kit.Given(i.Remedy))
			}
		}
		left.Write(s)
	}
	expected := "no earlier rotation tells how long it takes"
	if p.ExpectedSeconds != nil {
		expected = fmt.Sprintf("about %s of work, by what earlier rotations took", text.Counted(*p.ExpectedSeconds, "second"))
	}
	fmt.Fprintln(s.Env.Out)
	s.Below("", fmt.Sprintf(
		"%s on %s change, %d left out; %s; %s.", text.Counted(p.Logins, "login"),
		text.Counted(p.Instances, "instance"), p.LeftOut, text.Counted(len(p.NewKeys), "new key"), expected,
	), kit.AsItIs)
}

// seconds writes how long something may take, "" where that is not known.
func seconds(of *float32) string {
	if of == nil {
		return ""
	}
	return fmt.Sprintf("%.1f s", *of)
}

// settingsFlags say how a rotation goes about it.
type settingsFlags struct {
	first, atOnce, stopAfter int
	thenGo                   bool
	between, zone            string
	grace                    kit.Span
}

func (t *settingsFlags) flags(f *flag.FlagSet) {
	f.IntVar(&t.first, "first", 0, "a first group of this `number`; the rest waits until you resume the rotation")
	f.BoolVar(&t.thenGo, "then-go", false, "with -first: continue with the rest once all of the first group are done")
	f.IntVar(&t.atOnce, "at-once", 16, "how `many` logins are changed at once, up to 16")
	f.IntVar(&t.stopAfter, "stop-after", 0, "pause after this `number` of failures")
	f.StringVar(&t.between, "between", "", "only within these `hours`, such as 22:00-04:00")
	f.StringVar(&t.zone, "zone", "", "the time `zone` of the hours, such as Europe/Berlin; UTC unless given")
	f.Var(&t.grace, "grace", "how `long` old and new keys both stay in place, such as 48h")
}

func (t *settingsFlags) settings() apiclient.RotationSettings {
	out := apiclient.RotationSettings{
		First:     &t.first,
		ThenGo:    &t.thenGo,
		AtOnce:    &t.atOnce,
		StopAfter: &t.stopAfter,
		Between:   kit.Optional(t.between),
		Zone:      kit.Optional(t.zone),
	}
	if t.grace.Duration > 0 {
		out.GraceSeconds = new(int(t.grace.Seconds()))
	}
	return out
}

func rotateStart(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var t startFlags
	t.flags(f)
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		if err := t.check(); err != nil {
			return err
		}
		if t.fromHere != t.Given() {
			return kit.Usage("-from-here needs the old private key: -with FILE or -agent")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		here, end, err := workHere(s, ctx, client, t.LocalKeyFlags)
		if err != nil {
			return err
		}
		defer end()
		p, request, err := t.planned(ctx, client)
		if err != nil {
			return err
		}
		if !s.Json && !s.Quiet {
			showPlan(s, p)
			if p.Logins > 0 {
				t.show(s, p)
			}
			fmt.Fprintln(s.Env.Out)
		}
		if p.Logins == 0 {
			return kit.Conflict("nothing-to-rotate", "the plan replaces no key, so nothing was started", "")
		}
		if err := s.Confirm(
			t.yes,
			fmt.Sprintf(
				"This replaces keys in %s on %s.", text.Counted(p.Logins, "login"), text.Counted(p.Instances, "instance"),
			),
			"yes",
		); err != nil {
			return err
		}
		r, err := startPlanned(s, ctx, client, p, request)
		if err != nil {
			return err
		}
		if t.detach {
			return rotationSaid(s, r, calledBy(r))
		}
		return WatchRotation(s, ctx, client, r, calledBy(r), here)
	}
}

// startPlanned starts the rotation that was planned, with the pairs that are made here for it where the request
// says so. They are taken away again where the service refuses.
func startPlanned(
	s *kit.Session, ctx context.Context, client *apiclient.Client, p apiclient.RotationPlan,
	request apiclient.StartRotation,
) (r apiclient.Rotation, err error) {
	if len(p.NewKeys) == 0 {
		request.Make = apiclient.StartRotationMakeNone
	}
	for _, i := range p.Items {
		if i.LeftOut == nil {
			request.Shown = append(request.Shown, apiclient.ShownItem{Login: i.Login, Old: i.Old, New: *i.New})
		}
	}
	var made []*madePair
	if request.Make == apiclient.StartRotationMakeHere {
		if made, err = makePairs(s, p.NewKeys); err != nil {
			return r, err
		}
		request.NewKeys = new([]apiclient.NewPublicKey)
		for _, m := range made {
			*request.NewKeys = append(*request.NewKeys, apiclient.NewPublicKey{Name: m.name, PublicKey: m.pair.Line()})
		}
	}
	r, err = kit.Answer[apiclient.Rotation](
		client.StartRotation(ctx, &apiclient.StartRotationParams{IdempotencyKey: kit.NewRequestKey()}, request),
	)
	var refused *kit.ApiclientError
	if errors.As(err, &refused) && refused.Status < 500 {
		for _, m := range made { // nothing was recorded, so nothing is left
			err = errors.Join(err, m.place.Remove())
		}
	}
	if err != nil || s.Json || s.Quiet {
		return r, err
	}
	for _, m := range made {
		fmt.Fprintf(s.Env.Out, "Made %s; its private key is in %s.\n", m.name, s.Shown(m.place.Path))
	}
	fmt.Fprintf(s.Env.Out, "The rotation of %s has begun.\n", rotatedText(r))
	if request.Make == apiclient.StartRotationMakeBring {
		fmt.Fprintln(
			s.Env.Out, "Each new public key is asked of its holder. See which are missing: plumlatch rotate asked",
		)
	}
	return r, nil
}

// madePair is a pair that was made here for a rotation.
type madePair struct {
	name  string
	pair  keypair.Pair
	place *kit.KeyFile
}

// makePairs makes the pairs and writes their private keys: all, or none.
func makePairs(s *kit.Session, keys []apiclient.PlannedKey) (made []*madePair, err error) {
	home, err := s.Home()
	if err != nil {
		return nil, err
	}
	defer func() {
		if err == nil {
			return
		}
		for _, m := range made {
			err = errors.Join(err, m.place.Remove())
		}
	}()
	for _, k := range keys {
		place, err := kit.Reserve(filepath.Join(home, ".ssh", k.Name))
		if err != nil {
			return made, err
		}
		defer place.Drop()
		spec := keypair.Spec{Type: k.Type}
		if k.Type == keypair.RSA {
			spec.Bits = k.Bits
		}
		pair, err := keypair.Make(rand.Reader, spec, k.Name)
		if err != nil {
			return made, err
		}
		text, err := pair.OpenSSH(nil)
		if err != nil {
			return made, err
		}
		err = place.Keep(text, pair.Public)
		clear(text)
		if err != nil {
			return made, err
		}
		made = append(made, &madePair{k.Name, pair, place})
	}
	return made, nil
}

func rotateList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		rows, total, err := kit.Fetch[apiclient.Rotation](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListRotations(ctx, &apiclient.ListRotationsParams{After: after, Limit: &limit, Total: count})
			},
		)
		if err != nil {
			return err
		}
		return kit.Listing[apiclient.Rotation]{
			Head:  []string{"OLD KEYS", "STATE", "LOGINS", "BEGUN", "BY", "WHY", "ID"},
			Least: []string{"ID", "BY", "BEGUN"},
			Whole: []string{"ID"},
			Wraps: []string{"WHY"},
			None:  "There is no rotation yet. Plan one: plumlatch rotate plan",
			Name:  func(r apiclient.Rotation) string { return r.Id.String() },
			Cells: func(r apiclient.Rotation) []string {
				return []string{
					rotatedText(r),
					string(r.State),
					countsText(r),
					kit.Moment(r.CreatedAt),
					r.RequestedBy,
					cmp.Or(kit.Given(r.PausedWhy), kit.Given(r.Reason)),
					r.Id.String(),
				}
			},
		}.Show(s, rows, total)
	}
}

// rotationAt connects to the service, for the rotation that args mean: the newest, or what is named. Which
// rotations work on something of a name, the service says.
func rotationAt(s *kit.Session, ctx context.Context, args []string) (*apiclient.Client, uuid.UUID, error) {
	client, err := s.Connect()
	if err != nil {
		return nil, uuid.Nil, err
	}
	text := strings.Join(args, "")
	l, err := kit.Answer[kit.Page[apiclient.Rotation]](
		client.ListRotations(ctx, &apiclient.ListRotationsParams{Limit: new(kit.MeantOf), Meant: kit.Optional(text)}),
	)
	if err != nil {
		return nil, uuid.Nil, err
	}
	things := make([]kit.Thing, len(l.Items))
	for n, r := range l.Items {
		things[n] = kit.Thing{ID: r.Id, What: fmt.Sprintf("by %s, %s", r.RequestedBy, kit.Moment(r.CreatedAt))}
		if !strings.HasPrefix(strings.ReplaceAll(r.Id.String(), "-", ""), strings.ReplaceAll(text, "-", "")) {
			things[n].Names = []string{text}
		}
	}
	id, err := kit.Meant("rotation", text, "rotate list", things)
	return client, id, err
}

func rotateShow(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	state := f.String("state", "", "only logins in this state")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, id, err := rotationAt(s, ctx, args)
		if err != nil {
			return err
		}
		r, err := kit.Answer[apiclient.Rotation](client.GetRotation(ctx, id))
		if err != nil {
			return err
		}
		if s.Json {
			items, err := items(s, ctx, client, id, *state)
			if err != nil {
				return err
			}
			return s.WriteJSON(struct {
				apiclient.Rotation
				Items []apiclient.RotationItem `json:"items"`
			}{r, items})
		}
		if err := showItems(s, ctx, client, id, *state); err != nil {
			return err
		}
		fmt.Fprintln(s.Env.Out)
		return rotationSaid(s, r, strings.Join(args, " "))
	}
}

func rotateWatch(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	fromHere := f.Bool(
		"from-here", false, "edit from this machine, with the old private key (-with or -agent), the logins that need it",
	)
	var h kit.LocalKeyFlags
	h.Flags(f)
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, id, err := rotationAt(s, ctx, args)
		if err != nil {
			return err
		}
		r, err := kit.Answer[apiclient.Rotation](client.GetRotation(ctx, id))
		if err != nil {
			return err
		}
		if *fromHere && !h.Given() || !*fromHere && h.Given() {
			return kit.Usage("-from-here needs the old private key: -with FILE or -agent; and these are for -from-here")
		}
		here, end, err := workHere(s, ctx, client, h)
		if err != nil {
			return err
		}
		defer end()
		return WatchRotation(s, ctx, client, r, strings.Join(args, " "), here)
	}
}

func rotateChange(
	change apiclient.ChangeRotationChange,
) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		var login *string
		var yes *bool
		if change == "undo" || change == "retry" {
			login = f.String("login", "", "only this `login`")
		}
		if change == "undo" {
			yes = f.Bool("yes", false, "do not ask")
		}
		return func(ctx context.Context, s *kit.Session, args []string) error {
			client, id, err := rotationAt(s, ctx, args)
			if err != nil {
				return err
			}
			if change == "undo" {
				r, err := kit.Answer[apiclient.Rotation](client.GetRotation(ctx, id))
				if err != nil {
					return err
				}
				left, open := r.Counts["done"], r.Counts["placed"]+r.Counts["proved"]+r.Counts["placing"]
				if err := s.Confirm(
					*yes,
					fmt.Sprintf(
						"This removes the new key from %s where the old one is still in place, and starts none of the %d that are "+
							"waiting. "+
							"%s stay replaced.",
						text.Counted(open, "login"),
						r.Counts["waiting"],
						text.Counted(left, "login"),
					),
					"undo",
				); err != nil {
					return err
				}
			}
			r, err := kit.Answer[apiclient.Rotation](client.ChangeRotation(
				ctx, id,
				apiclient.ChangeRotation{Change: change, Login: kit.Optional(kit.Given(login)), Reason: kit.Optional(*reason)},
			))
			if err != nil {
				return err
			}
			return rotationSaid(s, r, strings.Join(args, " "))
		}
	}
}
