package fleet

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/sshio"
)

var AdoptCommands = []kit.Command{
	{
		Name: "instance adopt", Args: "[NAME]", Max: 1, Flags: instanceAdopt,
		Summary: "Bring in a machine that runs sshd, of any cloud or none",
		Detail: `It asks the machine for its host keys and shows their fingerprints, and pins them once you
have compared them with another source: the machine's console, or the person who set it up.
With -with FILE or -agent it logs in and reads who gets in today; with -steward it places a
steward key as well, by which the service sweeps and changes keys. With -via it is reached by way of another
instance, which you open from here or the service by its steward key.

With -list FILE it brings in all machines of a list: CSV with the heading name,address,port,login,host_key,via, a JSON
array of the same, or an OpenSSH client configuration; - is the standard input. Other columns are labels; so is
holder, since nobody is recorded as holding a private key before they have proved it. Lines of one address with
other users are further logins of that machine. A host_key is the fingerprint that the machine must show, and
nothing is asked about it. via is the machine or instance by way of which it is reached. -preview shows what would
come of each line. Machines that are recorded already are skipped, so that a list can be taken again.`,
		Examples: []string{
			"plumlatch instance adopt -list machines.csv",
			"plumlatch instance adopt -list ~/.ssh/config -login pi",
			"plumlatch instance adopt weather-mast -address 192.0.2.30 -login pi",
			"plumlatch instance adopt weather-mast -address mast.example -login pi -with ~/.ssh/oona -steward",
			"plumlatch instance adopt inner-db -address 10.20.0.4 -login debian -via gateway-1",
			"plumlatch instance adopt weather-mast -address 192.0.2.30 -login pi -host-key SHA256:…",
		},
	},
	stewardCommand,
	{
		Name:     "instance release",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    instanceRelease,
		Summary:  "Release an adopted machine; the machine itself is not changed",
		Examples: []string{"plumlatch instance release weather-mast"},
	},
}

func instanceAdopt(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	l := kit.Labels{}
	address := f.String("address", "", "its host name or `address`")
	user := f.String("login", "", "the OS `user` to log in as")
	port := f.Int("port", 22, "its SSH port")
	f.Var(l, "label", "a label, `name=value`; can be given several times")
	steward := f.Bool("steward", false, "place a steward key as well; needs -with or -agent")
	yes := f.Bool("yes", false, "take the host keys without being asked")
	list := f.String("list", "", "`file` with a list of machines")
	via := f.String("via", "", "the `instance` by way of which it is reached")
	hostKey := f.String("host-key", "", "the `fingerprint` that it must show")
	preview := f.Bool("preview", false, "with -list, show what would come of each line, and keep nothing")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		switch {
		case *list != "" && (len(args) > 0 || *address != ""):
			return kit.Usage("with -list the names and addresses come from the list")
		case *list != "" && *steward && !h.Given():
			return kit.Usage("-steward needs a way in: -with FILE or -agent")
		case *list != "" && (*via != "" || *hostKey != ""):
			return kit.Usage("with -list the ways and host keys come from its columns via and host_key")
		case *list != "":
			a := adoption{Session: s, labels: l, held: h, steward: *steward, yes: *yes, preview: *preview}
			return a.list(ctx, *list, *user)
		case *preview:
			return kit.Usage("-preview is for -list")
		case len(args) == 0:
			return kit.Usage("give it a name: plumlatch instance adopt NAME -address A -login USER; or -list FILE")
		case *address == "" || *user == "":
			return kit.Usage("say where it is and as whom to log in: -address A -login USER")
		case *steward && !h.Given():
			return kit.Usage("-steward needs a way in: -with FILE or -agent")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		signers, end, err := localKeysIfGiven(s, h)
		if err != nil {
			return err
		}
		defer end()
		m := found{
			Name: args[0], Address: *address, Port: *port, User: *user, Labels: l, Via: *via, Expected: *hostKey,
		}
		if err := m.ask(s, ctx, client, signers); err != nil {
			return err
		}
		var shown []string
		for _, k := range m.keys {
			shown = append(shown, fmt.Sprintf("  %s  %s", ssh.FingerprintSHA256(k), k.Type()))
		}
		if err := s.Confirm(
			*yes || m.sure,
			fmt.Sprintf(
				"%s shows these host keys. Compare one of them with what another way tells:\n%s", *address,
				strings.Join(shown, "\n"),
			),
			"yes",
		); err != nil {
			return err
		}
		i, err := adopt(s, ctx, client, m, signers, *steward)
		if err != nil {
			return err
		}
		return adopted(s, ctx, client, i)
	}
}

// localKeysIfGiven is holder, or nothing where no private key was named.
func localKeysIfGiven(s *kit.Session, h kit.LocalKeyFlags) ([]kit.AtHand, func(), error) {
	if !h.Given() {
		return nil, func() {}, nil
	}
	return s.LocalKeys(h)
}

// found is a machine that will be adopted, with the host keys that it shows.
type found struct {
	Name, Address, User string
	Port                int
	Labels              map[string]string
	// Via is the instance by way of which it is reached, Expected the fingerprint of a host key that it must show; "" for
	// none. Logins are other users of it.
	Via, Expected string
	Logins        []string

	keys   []ssh.PublicKey
	learnt string
	sure   bool // nothing has to be compared
}

// ask asks the machine for its host keys: from here, or where no key here opens the jump host on the way, from the
// service.
func (m *found) ask(s *kit.Session, ctx context.Context, client *apiclient.Client, signers []kit.AtHand) error {
	at := apiclient.Connection{Address: m.Address, Port: m.Port}
	m.learnt = "first contact by the client"
	if m.Via != "" {
		i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, m.Via))
		if err != nil {
			return err
		}
		way := append(slices.Clone(kit.Given(i.Connection.Via)), apiclient.Hop{
			Instance: i.Name, User: i.Connection.User, Address: i.Connection.Address, Port: i.Connection.Port,
			HostKeys: i.Connection.HostKeys,
		})
		at.Via = &way
	}
	var err error
	if m.keys, err = sshio.HostKeys(ctx, s.Unpinned(at, signers)); err != nil && m.Via != "" {
		m.learnt = "first contact by the service"
		if again := m.askByService(ctx, client); again != nil {
			return fmt.Errorf("%w; nor does it from the service: %w", err, again)
		}
		err = nil
	}
	if err == nil && m.Expected == "" && m.learnt != "first contact by the service" {
		err = m.vouched(s, ctx, client, s.Unpinned(at, signers))
	}
	if err == nil && m.Expected != "" {
		m.sure = true
		m.learnt = "machine itself, with the fingerprint that was expected"
		m.keys, err = expected(m.keys, m.Expected)
	}
	return err
}

func (m *found) askByService(ctx context.Context, client *apiclient.Client) error {
	shown, err := kit.Answer[[]apiclient.ShownHostKey](
		client.ReadHostKeys(ctx, apiclient.ReadHostKeys{Address: m.Address, Port: &m.Port, Via: &m.Via}),
	)
	for _, k := range shown {
		key, _, _, _, wrong := ssh.ParseAuthorizedKey([]byte(k.Line))
		if wrong != nil {
			return wrong
		}
		m.keys = append(m.keys, key)
	}
	return err
}

// adopt records the machine, and with private keys reads who gets in and, where it
// is wanted, places a steward key.
func adopt(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	m found,
	signers []kit.AtHand,
	steward bool,
) (apiclient.Instance, error) {
	request := apiclient.AdoptInstance{
		Name:      m.Name,
		Address:   m.Address,
		Port:      &m.Port,
		LoginUser: m.User,
		Learnt:    &m.learnt,
		Via:       kit.Optional(m.Via),
	}
	if len(m.Logins) > 0 {
		request.Logins = &m.Logins
	}
	for _, k := range m.keys {
		request.HostKeys = append(request.HostKeys, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))))
	}
	if len(m.Labels) > 0 {
		request.Labels = &m.Labels
	}
	i, err := kit.Answer[apiclient.Instance](client.AdoptInstance(ctx, request))
	if err != nil || len(signers) == 0 {
		return i, err
	}
	if steward {
		if err := placeSteward(s, ctx, client, i.Name, signers); err != nil {
			return i, fmt.Errorf("%s is recorded, but: %w\nTry again: plumlatch instance steward %s", i.Name, err, i.Name)
		}
	}
	login, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, i.Name))
	if err != nil {
		return i, err
	}
	if _, err := access.ReadAndReport(s, ctx, client, login, signers); err != nil {
		return i, fmt.Errorf("%s is recorded, but its files could not be read: %w", i.Name, err)
	}
	return i, nil
}

// maxMachineList is the greatest length of a list of machines, in bytes.
const maxMachineList = 1 << 20

// machinesAtOnce is how many machines of a list are asked at once, adoptedAtOnce how many are adopted.
const (
	machinesAtOnce = 16
	adoptedAtOnce  = 4
)

// listed is what came of one machine of a list.
type listed struct {
	Line    int    `json:"line"`
	Name    string `json:"name"`
	Login   string `json:"login"`
	Address string `json:"address"`
	HostKey string `json:"host_key,omitempty"`
	Outcome string `json:"outcome"` // adopted, a login of another line, or why not
	Via     string `json:"via,omitempty"`

	found
	left  bool   // it is not adopted by itself, or could not be
	known bool   // it is recorded already
	of    string // the machine that it is a login of
	done  bool   // it was adopted
}

// waits is whether nothing has come of it yet.
func (r listed) waits() bool { return !r.left && !r.done }

// adoption takes in the machines of a list.
type adoption struct {
	*kit.Session
	client       *apiclient.Client
	labels       kit.Labels
	held         kit.LocalKeyFlags
	signers      []kit.AtHand
	steward      bool
	yes, preview bool
	rows         []listed
}

// list adopts the machines of a list, after showing their host keys. Those that are reached by way of another of the
// list are asked once that is adopted.
func (a *adoption) list(ctx context.Context, file, user string) error {
	text, err := keys.ReadText(a.Session, file, "the list", maxMachineList)
	if err != nil {
		return err
	}
	if a.client, err = a.Connect(); err != nil {
		return err
	}
	read, err := kit.Answer[apiclient.MachineListReading](
		a.client.ReadMachineList(ctx, apiclient.ReadMachineList{Text: text, LoginUser: kit.Optional(user)}),
	)
	if err != nil {
		return err
	}
	var end func()
	if a.signers, end, err = localKeysIfGiven(a.Session, a.held); err != nil {
		return err
	}
	defer end()
	a.read(read.Machines)
	for round := a.next(); len(round) > 0; round = a.next() {
		a.ask(ctx, round)
		if err := a.takeIn(ctx, round); err != nil {
			return err
		}
		if a.preview {
			break
		}
	}
	out := map[string]bool{}
	for n := range a.rows {
		r := &a.rows[n]
		if r.waits() && !a.preview {
			r.Outcome, r.left = "is reached by way of "+r.found.Via+", which is not adopted", true
		}
		out[r.Name] = out[r.Name] || r.left && !r.known && r.of == ""
	}
	for n := range a.rows {
		if r := &a.rows[n]; r.of != "" && out[r.of] {
			r.Outcome += ", which is left out"
		}
	}
	return a.done()
}

func (a *adoption) read(machines []apiclient.ListedMachine) {
	a.rows = make([]listed, len(machines))
	for n, m := range machines {
		r := &a.rows[n]
		r.found = found{
			Name:     kit.Given(m.Name),
			Address:  kit.Given(m.Address),
			User:     kit.Given(m.LoginUser),
			Port:     kit.Given(m.Port),
			Labels:   maps.Clone(a.labels),
			Via:      kit.Given(m.Via),
			Expected: kit.Given(m.HostKey),
			Logins:   kit.Given(m.Logins),
		}
		maps.Copy(r.found.Labels, kit.Given(m.Labels))
		r.Line, r.Name, r.Login, r.Via = m.Line, r.found.Name, r.User, r.found.Via
		r.Address = net.JoinHostPort(r.found.Address, fmt.Sprint(r.Port))
		switch {
		case m.Refused != nil:
			r.Outcome, r.left = *m.Refused, true
		case m.KnownAs != nil:
			r.Outcome, r.left, r.known = "recorded already as "+*m.KnownAs, true, true
		case m.LoginOf != nil:
			r.Outcome, r.left, r.of = "a login of "+*m.LoginOf, true, *m.LoginOf
		}
	}
}

// next are the machines that can be asked now: by way of nothing, or of what is recorded.
func (a *adoption) next() (round []int) {
	waits := map[string]bool{}
	for _, r := range a.rows {
		if r.waits() || r.left && !r.known && r.of == "" {
			waits[r.Name] = true
		}
	}
	for n, r := range a.rows {
		if r.waits() && !waits[r.found.Via] {
			round = append(round, n)
		}
	}
	return round
}

// tell says how far a long list is.
func (a *adoption) tell(what string, n, of int) {
	if step := max(of/10, 50); n > 0 && n%step == 0 && !a.Json && !a.Quiet {
		fmt.Fprintf(a.Env.Err, "%s %d of %d\n", what, n, of)
	}
}

// ask asks machines for their host keys, some at once.
func (a *adoption) ask(ctx context.Context, round []int) {
	var group errgroup.Group
	group.SetLimit(machinesAtOnce)
	for n, at := range round {
		r := &a.rows[at]
		a.tell("Asked", n, len(round))
		group.Go(func() error {
			if err := r.ask(a.Session, ctx, a.client, a.signers); err != nil {
				r.Outcome, r.left = err.Error(), true
				return nil
			}
			r.HostKey = ssh.FingerprintSHA256(r.keys[0])
			return nil
		})
	}
	group.Wait()
}

// takeIn shows what would be adopted, asks, and adopts.
func (a *adoption) takeIn(ctx context.Context, round []int) error {
	ready, compare := 0, 0
	for _, n := range round {
		if r := a.rows[n]; !r.left {
			ready++
			if !r.sure {
				compare++
			}
		}
	}
	if !a.Json && !a.Quiet {
		a.show()
	}
	if ready == 0 || a.preview {
		return nil
	}
	what := fmt.Sprintf("\nThis adopts %d of %d and pins these host keys.", ready, len(a.rows))
	if compare > 0 {
		what += " Compare the fingerprints with what another way tells."
	}
	if err := a.Confirm(a.yes, what, "yes"); err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(adoptedAtOnce)
	for n, at := range round {
		r := &a.rows[at]
		if r.left {
			continue
		}
		a.tell("Adopted", n, len(round))
		group.Go(func() error {
			r.Outcome = "adopted"
			_, err := adopt(a.Session, ctx, a.client, r.found, a.signers, a.steward)
			if err != nil {
				r.Outcome, r.left = err.Error(), true
			}
			r.done = true
			return nil
		})
	}
	return group.Wait()
}

func (a *adoption) show() {
	t := kit.Table{
		Head:  []string{"NAME", "LOGIN", "ADDRESS", "VIA", "HOST KEY, OR WHY IT IS LEFT OUT"},
		Least: []string{"VIA"},
		Wraps: []string{"HOST KEY, OR WHY IT IS LEFT OUT"},
	}
	for _, r := range a.rows {
		said := cmp.Or(r.Outcome, r.HostKey)
		if r.waits() && said == "" {
			said = "asked once " + r.found.Via + " is adopted"
		}
		t.Add(r.Name, r.Login, r.Address, r.found.Via, said)
	}
	t.Write(a.Session)
}

// done says what came of a list, and ends with status 3 where a machine that is
// not recorded was left out.
func (a *adoption) done() error {
	adopted, left, known := 0, 0, 0
	for _, r := range a.rows {
		switch {
		case r.known:
			known++
		case !r.left:
			adopted++
			if a.Quiet {
				fmt.Fprintln(a.Env.Out, r.Name)
			}
		case r.of == "":
			left++
			if !a.Json && !a.Quiet {
				fmt.Fprintf(a.Env.Err, "line %d, %s: %s\n", r.Line, r.Name, r.Outcome)
			}
		}
	}
	switch {
	case a.Json:
		if err := a.WriteJSON(a.rows); err != nil {
			return err
		}
	case a.preview && !a.Quiet:
		fmt.Fprintf(a.Env.Out, "\n%d would be adopted, %d left out, %d recorded before.\n", adopted, left, known)
	case !a.Quiet:
		fmt.Fprintf(
			a.Env.Out, "\n%d adopted, %d left out, %d recorded before. See how safe they are: plumlatch reach\n", adopted, left,
			known,
		)
	}
	if left > 0 {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

func adopted(s *kit.Session, ctx context.Context, client *apiclient.Client, i apiclient.Instance) error {
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, i.Name))
	switch {
	case err != nil:
		return err
	case s.Json:
		return s.WriteJSON(l)
	case s.Quiet:
		fmt.Fprintln(s.Env.Out, i.Name)
		return nil
	}
	fmt.Fprintf(s.Env.Out, "%s is recorded, at %s.\n\n", i.Name, kit.HostPort(i.Connection))
	access.ShowLogin(s, l)
	return nil
}

func instanceRelease(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if err := s.Confirm(
			*yes,
			fmt.Sprintf(
				"This lets the record of %s go, with its grants. On the machine every key stays where it is, a steward key's "+
					"line too.",
				args[0],
			),
			args[0],
		); err != nil {
			return err
		}
		if _, err := kit.AnswerBytes(
			client.ReleaseInstance(ctx, args[0], &apiclient.ReleaseInstanceParams{Reason: kit.Optional(*reason)}),
		); err != nil {
			return err
		}
		if !s.Quiet && !s.Json {
			fmt.Fprintf(s.Env.Out, "The record of %s is gone.\n", args[0])
		}
		return nil
	}
}
