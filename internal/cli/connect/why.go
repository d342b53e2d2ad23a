package connect

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

var WhyCommands = []kit.Command{{
	Name: "why", NoNames: true, Args: "INSTANCE|LOGIN", Min: 1, Max: 1, Flags: why,
	Summary: "Diagnose why you cannot log in: ordered checks, each with its remedy",
	Detail: `The checks stop at the first that fails; the rest are listed as not reached. They are made
from this machine, with the private key of -with, or one that is found here or in the
ssh-agent; it is never sent. What cannot be checked, such as the firewall rules of a machine that
was adopted, is listed as not checked.

Where the records say that the key does not open it, a login is tried all the same: if it
completes, that check is listed as differs. It ends with status 3 if a check fails or differs.`,
	Examples: []string{"plumlatch why tide-gauge-1", "plumlatch why ubuntu@atlas-web-1 -with ~/.ssh/atlas"},
}}

// check is one of the questions of why. A failure has one remedy to type.
type check struct {
	Name   string `json:"check"`
	State  string `json:"state"` // passed, failed, differs, not checked or not reached
	Detail string `json:"detail,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

// failure is why a check failed and what to do.
type failure struct{ detail, remedy string }

func (f *failure) Error() string { return f.detail }

// notChecked is why a check could not be made.
type notChecked struct{ why string }

func (n *notChecked) Error() string { return n.why }

// diagnosis is what the checks find out for one another.
type diagnosis struct {
	*kit.Session
	client   *apiclient.Client
	instance string
	user     string
	held     kit.LocalKeyFlags
	file     string // of the private key; "" where the ssh-agent has it
	from     string // the address that the instance sees; "" for what the service sees
	found    apiclient.Instance
	login    apiclient.Login
	approach apiclient.Approach
	signer   kit.AtHand
	record   apiclient.Key
	end      func() // ends the connection to the ssh-agent
}

func why(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var held kit.LocalKeyFlags
	held.Flags(f)
	user := f.String("login", "", "the OS `user`; the image's own unless given")
	from := f.String("from", "", "the `address` that you come from, where this service sees another")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if err := held.Check(); err != nil {
			return err
		}
		d := &diagnosis{Session: s, client: client, instance: args[0], user: *user, held: held, file: held.With, from: *from}
		if of, instance, ok := strings.Cut(args[0], "@"); ok {
			d.instance, d.user = instance, cmp.Or(*user, of)
		}
		defer func() {
			if d.end != nil {
				d.end()
			}
		}()
		checks, failed := d.askAll(ctx)
		return showChecks(s, checks, failed)
	}
}

// question is a check. A recorded one asks the records, which the server need not agree with. One about hops is asked
// where jump hosts are on the way.
type question struct {
	name     string
	ask      func(context.Context) (string, error)
	recorded bool
	hops     bool
}

// askAll makes the checks up to the first that fails. Where that is one of the records, the server has the last
// word: a login is tried all the same.
func (d *diagnosis) askAll(ctx context.Context) (checks []check, failed bool) {
	questions := []question{
		{name: "The instance exists and runs", ask: d.runs},
		{name: "Its address is today's", ask: d.address},
		{name: "The jump hosts on the way let you pass", ask: d.way, hops: true},
		{name: "A firewall rule lets your address in", ask: d.firewall},
		{name: "Its SSH port answers", ask: d.port},
		{name: "The host key is the pinned one", ask: d.hostKey},
		{name: "The private key is at hand, as ssh wants it", ask: d.keyFile},
		{name: "The private key opens", ask: d.opens},
		{name: "The key is recorded, and neither lost nor retired", ask: d.known, recorded: true},
		{name: "The login user is right for the image", ask: d.rightUser, recorded: true},
		{name: "The key is in the login's file, without a limit", ask: d.stands, recorded: true},
		{name: "The modes of home, .ssh and the file pass the server's strict check", ask: d.modes, recorded: true},
	}
	differs := -1
	for _, q := range questions {
		if q.hops && len(kit.Given(d.found.Connection.Via)) == 0 {
			continue // it is reached straight
		}
		c := check{Name: q.name, State: "not reached"}
		if !failed {
			c = answered(q.name)(q.ask(ctx))
			failed = c.State == "failed"
			if failed && q.recorded {
				differs = len(checks)
			}
		}
		checks = append(checks, c)
	}
	last := check{Name: "A login completes", State: "not reached"}
	if !failed || differs >= 0 {
		last = answered(last.Name)(d.enter(ctx))
		if differs >= 0 && last.State == "passed" {
			checks[differs].State = "differs"
			checks[differs].Detail += "; but the server lets you in"
		}
		failed = failed || last.State == "failed"
	}
	return append(checks, last), failed
}

// answered makes a check of what its question was answered.
func answered(name string) func(detail string, err error) check {
	return func(detail string, err error) check {
		c := check{Name: name, State: "passed", Detail: detail}
		var f *failure
		var not *notChecked
		switch {
		case errors.As(err, &not):
			c.State, c.Detail = "not checked", not.why
		case errors.As(err, &f):
			c.State, c.Detail, c.Remedy = "failed", f.detail, f.remedy
		case err != nil:
			c.State, c.Detail = "failed", err.Error()
		}
		return c
	}
}

func showChecks(s *kit.Session, checks []check, failed bool) error {
	if s.Json {
		if err := s.WriteJSON(checks); err != nil {
			return err
		}
	} else {
		for _, c := range checks {
			mark := map[string]string{
				"passed":      s.Good("passed     "),
				"failed":      s.Bad("failed     "),
				"differs":     s.Bad("differs    "),
				"not checked": s.Faint("not checked"),
				"not reached": s.Faint("not reached"),
			}[c.State]
			said := c.Name
			if c.Detail != "" {
				said += ": " + c.Detail
			}
			s.Below(mark+"  ", said, kit.AsItIs)
			if c.Remedy != "" {
				fmt.Fprintf(s.Env.Out, "             %s\n", c.Remedy)
			}
		}
	}
	if failed {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

func (d *diagnosis) runs(ctx context.Context) (string, error) {
	i, err := kit.Answer[apiclient.Instance](d.client.GetInstance(ctx, d.instance))
	if kit.Code(err) == "no-such-instance" {
		return "", &failure{
			"there is no instance named " + d.instance,
			"See what there is: plumlatch instance list -find " + d.instance,
		}
	}
	if err != nil {
		return "", err
	}
	d.found = i
	if i.State != apiclient.InstanceStateRunning {
		return "", &failure{"it is " + string(i.State), "plumlatch instance start " + i.Name}
	}
	return "at " + kit.HostPort(i.Connection), nil
}

// address compares the address that is recorded with what the cloud says now.
func (d *diagnosis) address(ctx context.Context) (string, error) {
	from, err := d.comesFrom(ctx)
	if err != nil {
		return "", err
	}
	a, err := kit.Answer[apiclient.Approach](
		d.client.GetApproach(ctx, d.instance, &apiclient.GetApproachParams{From: kit.Optional(from)}),
	)
	if err != nil {
		return "", err
	}
	d.approach = a
	if !a.CloudAsked {
		return "", &notChecked{"it was adopted, so no cloud can be asked"}
	}
	now, recorded := kit.Given(a.Address), kit.Given(a.RecordedAddress)
	if state := kit.Given(a.State); state != apiclient.InstanceStateRunning {
		return "", &failure{"the cloud says that it is " + string(state), "plumlatch instance start " + d.instance}
	}
	if now != recorded {
		return "", &failure{
			fmt.Sprintf("it changed from %s to %s without this service", recorded, now),
			fmt.Sprintf("Stop and start it here, so that it is found again: plumlatch instance stop %s", d.instance),
		}
	}
	if before := kit.Given(a.AddressBefore); before != "" && before != now {
		return fmt.Sprintf(
			"%s; until %s it was %s, which no longer works", now, kit.Moment(*a.AddressChangedAt), before,
		), nil
	}
	return now, nil
}

// comesFrom is the address that the instance sees; "" for what the service sees of this machine.
func (d *diagnosis) comesFrom(ctx context.Context) (string, error) {
	via := kit.Given(d.found.Connection.Via)
	if d.from != "" || len(via) == 0 || kit.Given(via[len(via)-1].Hidden) {
		return d.from, nil
	}
	last, err := kit.Answer[apiclient.Instance](d.client.GetInstance(ctx, via[len(via)-1].Instance))
	return cmp.Or(last.PrivateAddress, last.PublicAddress), err
}

// way goes over the jump hosts.
func (d *diagnosis) way(ctx context.Context) (string, error) {
	err := d.TryHops(ctx, d.found.Connection, d.withFile())
	var hop *sshio.HopError
	switch {
	case errors.As(err, &hop) && (hop.Changed || hop.Refused):
		return "", &failure{err.Error(), "See why: plumlatch why " + hop.Hop}
	case errors.As(err, &hop):
		return "", &failure{
			err.Error(), "See whether the jump host itself answers: plumlatch why " + hop.Hop +
				"; and whether a firewall there lets it on",
		}
	case err != nil:
		return "", &failure{err.Error(), "See the way: plumlatch instance show " + d.instance}
	}
	return strings.ReplaceAll(jumpList(d.found.Connection), ",", ", then "), nil
}

// withFile is the private key that was named, where it opens without a question.
func (d *diagnosis) withFile() []kit.AtHand {
	if d.file == "" {
		return nil
	}
	k, err := d.FileKey(d.file, d.held.PassphraseFile, true)
	if err != nil {
		return nil
	}
	return []kit.AtHand{k}
}

func (d *diagnosis) firewall(context.Context) (string, error) {
	a := d.approach
	switch {
	case !a.CloudAsked:
		return "", &notChecked{"it was adopted, so no cloud's rules are known"}
	case a.AdmittedBy != nil:
		return fmt.Sprintf("the rule for %s lets %s in", *a.AdmittedBy, a.From), nil
	case len(a.Rules) == 0:
		return "", &failure{
			"no rule lets anybody in to its SSH port",
			fmt.Sprintf("Have a rule added in the cloud, for %s and port %d", a.From, d.found.Connection.Port),
		}
	}
	var sources []string
	for _, r := range a.Rules {
		sources = append(sources, r.Source)
	}
	return "", &failure{
		fmt.Sprintf("no rule lets %s in; there are rules for %s", a.From, strings.Join(sources, ", ")),
		"Come from one of those, or have a rule for your address added in the cloud. If this service sees another address " +
			"than the instance does: -from ADDRESS",
	}
}

func (d *diagnosis) rightUser(ctx context.Context) (string, error) {
	if d.user == "" {
		d.user = d.found.Connection.User
	}
	l, err := kit.Answer[apiclient.Login](d.client.GetLogin(ctx, d.user+"@"+d.instance))
	if kit.Code(err) == "no-such-login" {
		return "", &failure{
			fmt.Sprintf("%s is no login that is recorded; the image's own is %s", d.user, d.found.Connection.User),
			"plumlatch why " + d.instance + " -login " + d.found.Connection.User,
		}
	}
	d.login = l
	return d.user, err
}

func (d *diagnosis) port(ctx context.Context) (string, error) {
	address := net.JoinHostPort(d.found.Connection.Address, strconv.Itoa(d.found.Connection.Port))
	if via := jumpList(d.found.Connection); via != "" {
		return address + ", from " + via[strings.LastIndex(via, ",")+1:], nil // the check of the way went up to there
	}
	conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		if fault := d.serverFault(ctx); fault != "" {
			return "", &failure{
				fmt.Sprintf("%s does not answer: %v; its SSH server does not start: %s", address, err, fault),
				faultRemedy(fault, d.instance),
			}
		}
		return "", &failure{
			fmt.Sprintf("%s does not answer: %v", address, err),
			"Its address may have changed, or a firewall refuses yours: plumlatch instance show " + d.instance,
		}
	}
	defer conn.Close()
	return address, nil
}

// serverFault is why the machine's SSH server does not start, as its guest agent tells; "" where nobody says.
func (d *diagnosis) serverFault(ctx context.Context) string {
	f, err := kit.Answer[apiclient.ServerFault](d.client.GetServerFault(ctx, d.instance))
	if err != nil {
		return "" // not everybody may ask
	}
	return kit.Given(f.Fault)
}

// faultRemedy is what to do about it. Host keys of 0 bytes are left by a machine that was switched off soon after its
// first boot, before it had written them.
func faultRemedy(fault, instance string) string {
	if strings.Contains(fault, "no hostkeys available") {
		return "Its host keys are missing or empty, as after a power cut soon after its first boot. As root on it, by the " +
			"cloud's console: ssh-keygen -A; then pin the new ones: plumlatch host-key pin " + instance + " -reason TEXT"
	}
	return "As root on it, by the cloud's console: sshd -t"
}

func (d *diagnosis) hostKey(ctx context.Context) (string, error) {
	keys, err := sshio.HostKeys(ctx, d.Unpinned(d.found.Connection, d.withFile()))
	if err != nil {
		return "", &failure{
			fmt.Sprintf("the port answers, but not as an SSH server: %v", err),
			"A firewall may refuse your address, or sshd is not running: see the boot output in the cloud",
		}
	}
	for _, k := range keys {
		for _, pinned := range d.found.Connection.HostKeys {
			if pinned.Sha256 == ssh.FingerprintSHA256(k) {
				return pinned.Sha256, nil
			}
		}
	}
	return "", &failure{
		"it shows " + ssh.FingerprintSHA256(keys[0]) + ", which is not pinned",
		"Do not log in. Find out who changed it: plumlatch daybook list -about " + d.instance +
			". If the machine was set up again: plumlatch host-key pin " + d.instance,
	}
}

func (d *diagnosis) keyFile(ctx context.Context) (string, error) {
	if d.file == "" {
		openers, err := kit.Answer[apiclient.OpeningPage](
			d.client.ListOpeners(ctx, d.instance, &apiclient.ListOpenersParams{}),
		)
		if err != nil {
			return "", err
		}
		if d.file = d.FileFor(openers.Items); d.file == "" || d.held.Use {
			return d.fromAgent(openers.Items)
		}
	}
	info, err := os.Stat(d.file)
	if err != nil {
		return "", &failure{err.Error(), "Give the file of the private key: -with FILE"}
	}
	if !info.Mode().IsRegular() {
		return "", &failure{d.file + " is not a file", "Give the file of the private key: -with FILE"}
	}
	if text, err := os.ReadFile(d.file); err == nil && len(text) <= keypair.MaxTextBytes &&
		!keypair.HoldsPrivate(string(text)) {
		return "", &failure{
			d.Shown(d.file) + " has no private key",
			"Give the private one: -with " + strings.TrimSuffix(d.Shown(d.file), ".pub"),
		}
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return "", &failure{
			fmt.Sprintf("the mode %04o of %s lets others read it, and ssh refuses such a file", mode, d.Shown(d.file)),
			"chmod 600 " + d.Shown(d.file),
		}
	}
	if owner := kit.OtherOwner(info); owner != "" {
		return "", &failure{
			fmt.Sprintf("%s belongs to %s, not to you", d.Shown(d.file), owner),
			"Copy it to a file of your own, with the mode 0600",
		}
	}
	return d.Shown(d.file), nil
}

// fromAgent takes the private key from the ssh-agent, where it has one that opens the instance.
func (d *diagnosis) fromAgent(openers []apiclient.Opening) (string, error) {
	none := &failure{
		"no private key that opens it was found, neither on this machine nor in the ssh-agent",
		"Say where it is: plumlatch why " + d.instance + " -with FILE. " +
			"If it is lost: plumlatch restore routes " + d.instance,
	}
	d.file = ""
	signers, end, err := d.LocalKeys(kit.LocalKeyFlags{AgentFlags: d.held.Agent()})
	if err != nil {
		if d.held.Use {
			return "", &failure{err.Error(), none.remedy}
		}
		return "", none
	}
	d.end = end
	for _, o := range openers {
		for _, signer := range signers {
			if o.Key.Sha256 == keypair.FormatSHA256(signer.SHA256()) {
				d.signer = signer
				return "the ssh-agent has " + o.Key.Name, nil
			}
		}
	}
	return "", none
}

func (d *diagnosis) opens(context.Context) (string, error) {
	if d.file == "" {
		return kit.TypeText(d.signer.Type, d.signer.Bits) + ", by the ssh-agent", nil
	}
	k, err := d.ReadKeyFile(d.file, d.held.PassphraseFile, true)
	switch {
	case errors.Is(err, keypair.ErrPassphraseNeeded):
		return "", &failure{"it is encrypted", "Give its passphrase: -passphrase-file FILE"}
	case errors.Is(err, keypair.ErrPassphraseWrong):
		return "", &failure{
			"the passphrase does not open it, or the file is damaged",
			"plumlatch key inspect " + d.Shown(d.file),
		}
	case err != nil:
		return "", &failure{err.Error(), "plumlatch key inspect " + d.Shown(d.file)}
	}
	if len(k.Private.Notes) > 0 || strings.HasPrefix(string(k.Private.Format), "ppk") {
		return "", &failure{
			"it is in a form that ssh does not read",
			fmt.Sprintf("plumlatch key convert %s -to openssh -out %s.openssh", d.Shown(d.file), d.Shown(d.file)),
		}
	}
	d.signer, err = kit.SignerOf(k.Private.Pair, d.file)
	return kit.TypeText(k.Private.Type, k.Private.Bits) + ", " + keypair.FormatSHA256(k.Private.SHA256()), err
}

func (d *diagnosis) known(ctx context.Context) (string, error) {
	name, err := d.RecordOf(ctx, d.client, d.signer)
	if err != nil {
		return "", err
	}
	if name == "" {
		return "", &failure{"the key is not recorded", "plumlatch key import NAME -from " + d.Shown(d.file) + ".pub"}
	}
	if d.record, err = kit.Answer[apiclient.Key](d.client.GetKey(ctx, name)); err != nil {
		return "", err
	}
	if d.record.State != apiclient.KeyStateActive {
		return "", &failure{
			fmt.Sprintf("%s is %s", name, d.record.State),
			"Make a new key and have it let in: plumlatch key new NAME",
		}
	}
	return name, nil
}

func (d *diagnosis) stands(context.Context) (string, error) {
	i := slices.IndexFunc(d.login.Openers, func(o apiclient.Opening) bool { return o.Key.Name == d.record.Name })
	grant := fmt.Sprintf("plumlatch grant add %s %s", d.record.Name, d.login.Reach.Login)
	if i < 0 {
		return "", &failure{
			fmt.Sprintf("%s is neither granted %s nor was it seen there", d.record.Name, d.login.Reach.Login),
			grant,
		}
	}
	o := d.login.Openers[i]
	switch {
	case o.Status == apiclient.StatusMissing:
		return "", &failure{"it is granted, but was not there at the last look on " + kit.Moment(*o.SeenAt), grant}
	case o.Limits != nil && (strings.Contains(*o.Limits, "expired") || strings.Contains(*o.Limits, "only ")):
		return "", &failure{"its line has a limit: " + *o.Limits, "See the line: plumlatch login show " + d.login.Reach.Login}
	case o.SeenAt == nil:
		return "", &notChecked{"it is granted; nobody has read the login yet"}
	}
	return "seen on " + kit.Moment(*o.SeenAt), nil
}

func (d *diagnosis) modes(context.Context) (string, error) {
	if len(d.login.Files) == 0 {
		return "", &notChecked{"nobody has read the file"}
	}
	type judged struct{ path, mode string }
	var all []judged
	for _, f := range d.login.Folders {
		all = append(all, judged{f.Path, f.Mode})
	}
	for _, f := range d.login.Files {
		if f.There {
			all = append(all, judged{f.Path, f.Mode})
		}
	}
	for _, j := range all {
		mode, err := strconv.ParseUint(j.mode, 8, 32)
		if err == nil && mode&0o022 != 0 {
			return "", &failure{
				fmt.Sprintf("%s has the mode %s: others may write it, so sshd ignores what is in place there", j.path, j.mode),
				fmt.Sprintf("On the instance: chmod go-w %s; then: plumlatch sweep %s", j.path, d.instance),
			}
		}
	}
	return "as of " + kit.Moment(*d.login.Reach.SweptAt), nil
}

func (d *diagnosis) enter(ctx context.Context) (string, error) {
	at := d.login.Connection
	if d.login.Reach.Login == "" { // the records were not asked that far
		at = d.found.Connection
		at.User = cmp.Or(d.user, at.User)
	}
	session, _, err := d.Enter(ctx, at, []kit.AtHand{d.signer})
	if err != nil {
		return "", &failure{err.Error(), "See what is in place there now: plumlatch sweep " + d.instance}
	}
	session.Close()
	return "you get in: plumlatch connect " + d.instance, nil
}
