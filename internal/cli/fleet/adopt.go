package fleet

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"net"
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
steward key as well, by which the service sweeps and changes keys. With -list FILE it brings
in all machines of a list: CSV with the heading name,address,port,login (other columns are
labels), a JSON array of the same, or an OpenSSH client configuration; - is the standard
input. Machines that are recorded already are skipped.`,
		Examples: []string{
			"plumlatch instance adopt -list machines.csv",
			"plumlatch instance adopt -list ~/.ssh/config -login pi",
			"plumlatch instance adopt weather-mast -address 192.0.2.30 -login pi",
			"plumlatch instance adopt weather-mast -address mast.example -login pi -with ~/.ssh/oona -steward",
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
	return func(ctx context.Context, s *kit.Session, args []string) error {
		switch {
		case *list != "" && (len(args) > 0 || *address != ""):
			return kit.Usage("with -list the names and addresses come from the list")
		case *list != "" && *steward && !h.Given():
			return kit.Usage("-steward needs a way in: -with FILE or -agent")
		case *list != "":
			return adoptList(s, ctx, *list, *user, l, h, *steward, *yes)
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
		m := found{Name: args[0], Address: *address, Port: *port, User: *user, Labels: l}
		if err := m.ask(ctx); err != nil {
			return err
		}
		var shown []string
		for _, k := range m.keys {
			shown = append(shown, fmt.Sprintf("  %s  %s", ssh.FingerprintSHA256(k), k.Type()))
		}
		if err := s.Confirm(
			*yes,
			fmt.Sprintf(
				"%s shows these host keys. Compare one of them with what another way tells:\n%s", *address,
				strings.Join(shown, "\n"),
			),
			"yes",
		); err != nil {
			return err
		}
		signers, end, err := localKeysIfGiven(s, h)
		if err != nil {
			return err
		}
		defer end()
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
	keys                []ssh.PublicKey
}

func (m *found) ask(ctx context.Context) (err error) {
	m.keys, err = sshio.HostKeys(ctx, m.Address, m.Port)
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
		Learnt:    new("first contact by the client"),
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

// machinesAtOnce is how many machines of a list are asked at once.
const machinesAtOnce = 16

// listed is what came of one machine of a list.
type listed struct {
	Line    int    `json:"line"`
	Name    string `json:"name"`
	Login   string `json:"login"`
	Address string `json:"address"`
	HostKey string `json:"host_key,omitempty"`
	Outcome string `json:"outcome"` // adopted, or why not

	found
	left bool // it is not to be adopted, or could not be
}

// adoptList adopts the machines of a list, after showing their host keys.
func adoptList(
	s *kit.Session, ctx context.Context, file, user string, l kit.Labels, h kit.LocalKeyFlags, steward, yes bool,
) error {
	text, err := keys.ReadText(s, file, "the list", maxMachineList)
	if err != nil {
		return err
	}
	client, err := s.Connect()
	if err != nil {
		return err
	}
	read, err := kit.Answer[apiclient.MachineListReading](
		client.ReadMachineList(ctx, apiclient.ReadMachineList{Text: text, LoginUser: kit.Optional(user)}),
	)
	if err != nil {
		return err
	}
	rows := askListed(s, ctx, read.Machines, l)
	ready := 0
	for _, r := range rows {
		if !r.left {
			ready++
		}
	}
	if !s.Json && !s.Quiet {
		showListed(s, rows)
	}
	if ready == 0 {
		return listDone(s, rows)
	}
	if err := s.Confirm(
		yes,
		fmt.Sprintf(
			"\nThis adopts %d of %d and pins these host keys. Compare the fingerprints with what another way tells.",
			ready, len(rows),
		),
		"yes",
	); err != nil {
		return err
	}
	signers, end, err := localKeysIfGiven(s, h)
	if err != nil {
		return err
	}
	defer end()
	for n := range rows {
		r := &rows[n]
		if r.left {
			continue
		}
		r.Outcome = "adopted"
		if _, err := adopt(s, ctx, client, r.found, signers, steward); err != nil {
			r.Outcome, r.left = err.Error(), true
		}
	}
	return listDone(s, rows)
}

// askListed asks the machines that can be adopted for their host keys, some at once.
func askListed(s *kit.Session, ctx context.Context, machines []apiclient.ListedMachine, l kit.Labels) []listed {
	rows := make([]listed, len(machines))
	var group errgroup.Group
	group.SetLimit(machinesAtOnce)
	for n, m := range machines {
		r := &rows[n]
		r.found = found{
			Name:    kit.Given(m.Name),
			Address: kit.Given(m.Address),
			User:    kit.Given(m.LoginUser),
			Port:    kit.Given(m.Port),
			Labels:  maps.Clone(l),
		}
		maps.Copy(r.found.Labels, kit.Given(m.Labels))
		r.Line, r.Name, r.Login, r.Address = m.Line, r.found.Name, r.User, net.JoinHostPort(
			r.found.Address, fmt.Sprint(r.Port),
		)
		switch {
		case m.Refused != nil:
			r.Outcome, r.left = *m.Refused, true
		case m.KnownAs != nil:
			r.Outcome, r.left = "recorded already as "+*m.KnownAs, true
		default:
			group.Go(func() error {
				if err := r.ask(ctx); err != nil {
					r.Outcome, r.left = err.Error(), true
					return nil
				}
				r.HostKey = ssh.FingerprintSHA256(r.keys[0])
				return nil
			})
		}
	}
	group.Wait()
	return rows
}

func showListed(s *kit.Session, rows []listed) {
	t := kit.Table{
		Head:  []string{"NAME", "LOGIN", "ADDRESS", "HOST KEY, OR WHY IT IS LEFT OUT"},
		Wraps: []string{"HOST KEY, OR WHY IT IS LEFT OUT"},
	}
	for _, r := range rows {
		t.Add(r.Name, r.Login, r.Address, cmp.Or(r.Outcome, r.HostKey))
	}
	t.Write(s)
}

// listDone says what came of a list, and ends with status 3 where a machine that is
// not recorded was left out.
func listDone(s *kit.Session, rows []listed) error {
	adopted, left := 0, 0
	for _, r := range rows {
		switch {
		case !r.left:
			adopted++
			if s.Quiet {
				fmt.Fprintln(s.Env.Out, r.Name)
			}
		case !strings.HasPrefix(r.Outcome, "recorded already"):
			left++
			if !s.Json && !s.Quiet {
				fmt.Fprintf(s.Env.Err, "line %d, %s: %s\n", r.Line, r.Name, r.Outcome)
			}
		}
	}
	switch {
	case s.Json:
		if err := s.WriteJSON(rows); err != nil {
			return err
		}
	case !s.Quiet:
		fmt.Fprintf(
			s.Env.Out,
			"\n%d adopted, %d left out, %d recorded before. See how safe they are: plumlatch reach\n", adopted, left,
			len(rows)-adopted-left,
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
