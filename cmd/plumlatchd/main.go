// Command plumlatchd is the service: the API, the console, and the runs.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"golang.org/x/term"

	"plumlatch/internal/core/name"
	corevisit "plumlatch/internal/core/visit"
	"plumlatch/internal/outbound"
	"plumlatch/internal/service"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/visit"
	"plumlatch/internal/store"
)

var version = "dev"

type settings struct {
	demo         bool
	demoSize     int
	machines     string
	outside      net.Listener // that of the network from which the hall was entered
	dir          string
	listen       string
	database     string
	cloudURL     string
	cloudToken   string
	cloudName    string
	checkAdapter string
	adapterToken string
	checkImage   string
	checkSize    string
	junit        string
	certificate  string
	privateKey   string
	plainHTTP    bool
	firstAdmin   string
	shortRSA     bool
	safeKey      string
	sweepEvery   time.Duration
	readClouds   time.Duration
	keepDays     int
	freshDays    int
	visits       visit.Options
	stewardFrom  string
	reportIn     time.Duration
	owner        string
	safeCommand  string
	allowLocal   bool
	perSecond    float64
	sessionFor   time.Duration
	sessionIdle  time.Duration
	issuer       string
	clientID     string
	clientFile   string
	publicURL    string
	mail         mailSettings
	factors      string
	proxies      prefixes
	plainDB      bool
	plainCloud   bool
	backup       string
	restore      string
}

// prefixes is a flag that may be given several times.
type prefixes []netip.Prefix

func (p *prefixes) String() string { return strings.Trim(fmt.Sprint(*p), "[]") }

// Set adds a network, or an address alone.
func (p *prefixes) Set(text string) error {
	one, err := netip.ParsePrefix(text)
	if err != nil {
		var alone netip.Addr
		if alone, err = netip.ParseAddr(text); err == nil {
			one, err = alone.Prefix(alone.BitLen())
		}
	}
	if err != nil {
		return fmt.Errorf("%q is no network, such as 192.0.2.0/24", text)
	}
	*p = append(*p, one.Masked())
	return nil
}

func main() {
	var o settings
	o.flags(flag.CommandLine)
	showVersion := flag.Bool("version", false, "print the version and end")
	flag.Usage = usage
	flag.Parse()
	if *showVersion {
		fmt.Println("plumlatchd", version)
		return
	}
	if flag.NArg() > 0 {
		fmt.Fprintf(os.Stderr, "plumlatchd: %q is not expected; see plumlatchd -help\n", flag.Arg(0))
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if err := run(ctx, o, log); err != nil {
		fmt.Fprintln(os.Stderr, "plumlatchd:", err)
		os.Exit(1)
	}
}

// flags adds the settings to f.
func (o *settings) flags(f *flag.FlagSet) {
	f.BoolVar(&o.demo, "demo", false, "start PostgreSQL, the stand-in cloud and the sample fleet as well")
	f.IntVar(&o.demoSize, "demo-size", 0, "with -demo: how many instances the sample fleet has at least")
	f.StringVar(
		&o.machines, "machines", "",
		"with -demo: launch real machines too, from the image in this folder; it needs root, libvirt and QEMU",
	)
	f.StringVar(&o.dir, "data", ".demo", "with -demo: the folder for the data")
	f.StringVar(&o.listen, "listen", "127.0.0.1:8420", "address to serve on; port 0 picks a free one")
	f.StringVar(
		&o.database, "database", os.Getenv("PLUMLATCH_DATABASE"),
		"URL of the PostgreSQL database; also PLUMLATCH_DATABASE, which keeps the password out of the process list",
	)
	f.StringVar(&o.cloudURL, "cloud", "", "URL of the adapter of the first cloud; others: plumlatch cloud add")
	f.StringVar(&o.cloudName, "cloud-name", "", "what the first cloud is called from now on; main at first")
	f.StringVar(&o.cloudToken, "cloud-token-file", "", "file with the token for the adapter")
	f.StringVar(&o.certificate, "tls-cert", "", "file with the TLS certificate chain")
	f.StringVar(&o.privateKey, "tls-key", "", "file with the TLS certificate's private key")
	f.BoolVar(
		&o.plainHTTP, "plain-http-beyond-loopback", false,
		"serve without TLS on an address that others can reach; anybody on the way can then read tokens",
	)
	f.StringVar(
		&o.firstAdmin, "first-admin", "",
		"make this admin account in an empty database, with the password read from the terminal or standard input, and end",
	)
	f.BoolVar(
		&o.shortRSA, "allow-short-rsa", false,
		"let RSA keys under 2048 bits be granted again; they can be broken by those with money",
	)
	f.StringVar(
		&o.safeKey,
		"safe-key-file",
		"",
		"file with the safe's key, made with mode 0600 if it is not there; without it no steward key can be kept. "+
			"Keep a copy elsewhere: what is in the safe cannot be opened without it",
	)
	f.DurationVar(
		&o.readClouds, "read-clouds-every", 10*time.Minute,
		"how often all that runs in each cloud is read; 0 for only when somebody asks",
	)
	f.DurationVar(
		&o.sweepEvery, "sweep-every", 6*time.Hour,
		"how often logins with a steward key are swept, spread out; 0 for never",
	)
	f.IntVar(
		&o.keepDays, "keep-readings", 1100,
		"for how many days the readings of key files are kept that later ones have replaced, for questions about a date; "+
			"0 for ever",
	)
	o.visits = visit.Options{Limits: corevisit.Usual}
	f.BoolVar(&o.visits.Off, "no-visits", false, "open no terminals in the console")
	f.BoolVar(&o.visits.NoFiles, "no-visit-files", false, "transfer no files by the console's terminals")
	f.DurationVar(
		&o.visits.Limits.Idle, "visit-idle", corevisit.Usual.Idle, "after how long without typing a terminal ends",
	)
	f.DurationVar(
		&o.visits.Limits.Longest, "visit-longest", corevisit.Usual.Longest, "for how long a terminal may be open",
	)
	f.IntVar(&o.visits.Limits.Each, "visits-each", corevisit.Usual.Each, "how many terminals one person may have open")
	f.IntVar(&o.visits.Limits.All, "visits", corevisit.Usual.All, "how many terminals may be open in all")
	f.IntVar(&o.freshDays, "fresh-days", 30, "for how many days a proof counts")
	f.StringVar(
		&o.stewardFrom, "steward-from", "",
		"limit new steward keys to these addresses, as in the from option of authorized_keys",
	)
	f.DurationVar(
		&o.reportIn, "report-within", 2*time.Minute,
		"for how long a step that somebody takes from their own machine is waited for",
	)
	f.StringVar(
		&o.owner,
		"owner-database",
		os.Getenv("PLUMLATCH_OWNER_DATABASE"),
		"URL for the role that owns the tables, which brings the schema up to date; the role of -database can then only "+
			"add to the daybook. Also PLUMLATCH_OWNER_DATABASE",
	)
	f.StringVar(
		&o.safeCommand, "safe-key-command", "",
		"program, with its arguments, that prints the safe's key, instead of -safe-key-file",
	)
	f.BoolVar(
		&o.allowLocal,
		"allow-local-targets",
		false,
		"let the service connect to loopback and link-local addresses: instances, subscribers, adapters and issuers on this "+
			"machine",
	)
	f.Float64Var(&o.perSecond, "requests-per-second", 200, "how many requests may come from one address; 0 for any number")
	f.DurationVar(&o.sessionFor, "session-lasts", 12*time.Hour, "how long a console session stays valid")
	f.DurationVar(&o.sessionIdle, "session-idle", time.Hour, "how long a console session stays valid without use")
	f.StringVar(&o.issuer, "oidc-issuer", "", "URL of an OpenID Connect issuer by which people may sign in")
	f.StringVar(&o.clientID, "oidc-client-id", "", "what the issuer calls this service")
	f.StringVar(&o.clientFile, "oidc-client-secret-file", "", "file with this service's secret at the issuer")
	f.StringVar(
		&o.factors,
		"oidc-factors",
		"",
		"values of acr or amr, with commas between, by which the issuer says that it asked for a second factor; it then "+
			"counts for the one of an account here, whose code is asked for otherwise",
	)
	f.Var(
		&o.proxies,
		"trusted-proxy",
		"`network` of proxies in front, such as 192.0.2.0/24: what X-Forwarded-For or Forwarded say of a caller is "+
			"believed of these alone; may be given several times",
	)
	f.BoolVar(
		&o.plainDB,
		"plain-database-beyond-loopback",
		false,
		"reach PostgreSQL on another machine without sslmode=verify-full; anybody on the way can then read and change "+
			"everything",
	)
	f.BoolVar(
		&o.plainCloud, "plain-cloud-beyond-loopback", false,
		"reach the cloud's adapter on another machine by http; anybody on the way can then read its token",
	)
	f.StringVar(
		&o.publicURL, "public-url", "",
		"this service's address as browsers see it, for the issuer to lead back to, and for links in mail",
	)
	o.mail.flags(f)
	f.StringVar(
		&o.backup,
		"backup",
		"",
		"write a copy of the database to this file, in the format of pg_dump, and end; what is in the safe stays "+
			"encrypted, and its safe key is not in it",
	)
	f.StringVar(
		&o.checkAdapter, "check-adapter", "",
		"go through the contract of api/adapter.yaml against the adapter at this URL, tell of each rule, and end; nothing "+
			"is "+
			"changed in the cloud unless -launch is given",
	)
	f.StringVar(&o.adapterToken, "token-file", "", "with -check-adapter: file with the token for the adapter")
	f.StringVar(
		&o.checkImage, "launch", "", "with -check-adapter: launch an instance of this image, stop, start and end it",
	)
	f.StringVar(&o.checkSize, "size", "", "with -launch: its size")
	f.StringVar(&o.junit, "junit", "", "with -check-adapter: write the results to this file as JUnit XML too")
	f.StringVar(&o.restore, "restore", "", "read the copy in this file into an empty database, check the daybook, and end")
}

func usage() {
	fmt.Fprint(os.Stderr, `plumlatchd serves the Plum Latch API and console.

Try it with sample data:   plumlatchd -demo
Run it for real:           plumlatchd -database URL -cloud URL -cloud-token-file FILE
First account:             by the secret that the first start prints, or
                           plumlatchd -database URL -first-admin NAME
Keep a copy:               plumlatchd -database URL -backup FILE
Try an adapter:            plumlatchd -check-adapter URL -token-file FILE

`)
	flag.PrintDefaults()
}

func run(ctx context.Context, o settings, log *slog.Logger) error {
	if o.checkAdapter != "" {
		return checkAdapter(ctx, o)
	}
	if err := o.check(); err != nil {
		return err
	}
	if o.demo && o.machines != "" {
		if err := enterHall(&o); err != nil {
			return err
		}
	}
	if o.demo {
		return runDemo(ctx, o)
	}
	outbound.RefuseLocal(!o.allowLocal)
	if o.backup != "" || o.restore != "" {
		return copyDatabase(ctx, o)
	}
	if o.owner != "" {
		if err := store.Prepare(ctx, o.owner, o.database); err != nil {
			return err
		}
	}
	if o.firstAdmin != "" {
		return makeFirstAdmin(ctx, o, log)
	}
	token := ""
	if o.cloudToken != "" {
		data, err := os.ReadFile(o.cloudToken)
		if err != nil {
			return fmt.Errorf("-cloud-token-file: %w", err)
		}
		token = strings.TrimSpace(string(data))
	}
	h, err := openHouse(ctx, o.database, o.cloudURL, token, log)
	if err != nil {
		return err
	}
	defer h.close()
	if open, err := h.store.DaybookOpen(ctx); err != nil {
		return err
	} else if open {
		log.Warn("the database role of the service could change the daybook; give it a role that owns no tables, and the " +
			"owner's URL with -owner-database")
	}
	if err := h.furnishBy(ctx, o); err != nil {
		return err
	}
	secret, err := h.service.People.SetUpSecret(ctx)
	if err != nil {
		return err
	}
	return h.serve(ctx, o, func(url string) error {
		fmt.Println("Plum Latch is at", url)
		if secret != "" {
			fmt.Printf(
				"There is no account yet. Make the first admin there, or with plumlatch set-up, by this secret:\n  %s\n",
				secret,
			)
		}
		return nil
	})
}

func (o settings) check() error {
	switch {
	case o.demo && o.database != "":
		return errors.New("-demo brings its own database: leave -database out")
	case !o.demo && o.database == "":
		return errors.New("no database was given: say -database URL, or -demo for a try")
	case o.demo && (o.backup != "" || o.restore != ""):
		return errors.New("-demo keeps its own data: leave -backup and -restore out")
	case o.backup != "" && o.restore != "":
		return errors.New("-backup and -restore exclude one another")
	case o.safeKey != "" && o.safeCommand != "":
		return errors.New("-safe-key-file and -safe-key-command exclude one another")
	case o.issuer != "" && (o.clientID == "" || o.clientFile == "" || o.publicURL == ""):
		return errors.New("-oidc-issuer needs -oidc-client-id, -oidc-client-secret-file and -public-url")
	case o.perSecond < 0:
		return errors.New("-requests-per-second is negative; 0 is any number")
	case o.sessionFor <= 0 || o.sessionIdle <= 0:
		return errors.New("-session-lasts and -session-idle are more than nothing")
	case o.cloudName != "" && name.Check(o.cloudName) != nil:
		return fmt.Errorf("-cloud-name: %w", name.Check(o.cloudName))
	case o.visits.Limits.Idle < time.Second || o.visits.Limits.Longest < time.Second ||
		o.visits.Limits.Longest > 7*24*time.Hour:
		return errors.New("-visit-idle and -visit-longest are 1s or more, and -visit-longest is 168h at most")
	case o.visits.Limits.Each < 1 || o.visits.Limits.All < 1:
		return errors.New("-visits-each and -visits are 1 or more; -no-visits switches them off")
	case o.freshDays < 1 || o.freshDays > 3650:
		return fmt.Errorf("-fresh-days is %d; 1 to 3650 are allowed", o.freshDays)
	case o.reportIn <= 0:
		return errors.New("-report-within is not positive")
	case o.sweepEvery < 0:
		return errors.New("-sweep-every is negative; 0 is never")
	case o.readClouds < 0:
		return errors.New("-read-clouds-every is negative; 0 is only when somebody asks")
	case strings.ContainsAny(o.stewardFrom, "\"\\ \t\r\n"):
		return errors.New("-steward-from has a quote, a backslash or a blank in it; give patterns as in 192.0.2.0/24,10.0.*")
	case (o.certificate == "") != (o.privateKey == ""):
		return errors.New("-tls-cert and -tls-key go together")
	}
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return fmt.Errorf("-listen: %w", err)
	}
	ip := net.ParseIP(host)
	loopback := host == "localhost" || ip != nil && ip.IsLoopback()
	if !loopback && o.demo {
		return fmt.Errorf("-listen %s: the demo has well-known passwords, so it serves on loopback only", o.listen)
	}
	if err := o.checkEncrypted(); err != nil {
		return err
	}
	if !loopback && o.certificate == "" && !o.plainHTTP {
		return fmt.Errorf(
			"-listen %s can be reached from other machines and there is no TLS: give -tls-cert and -tls-key, or say "+
				"-plain-http-beyond-loopback if something in front encrypts",
			o.listen,
		)
	}
	return nil
}

// checkEncrypted refuses to send what opens the database and the cloud in plain text to another
// machine.
func (o settings) checkEncrypted() error {
	for name, url := range map[string]string{"-database": o.database, "-owner-database": o.owner} {
		if url == "" || o.plainDB {
			continue
		}
		encrypted, err := store.Encrypted(url)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if !encrypted {
			return fmt.Errorf(
				"%s leads to another machine without sslmode=verify-full, so it is not known who answers and who reads along: "+
					"add sslmode=verify-full and sslrootcert=FILE to it, or say -plain-database-beyond-loopback",
				name,
			)
		}
	}
	if u, err := url.Parse(o.cloudURL); err == nil && u.Scheme == "http" && !o.plainCloud {
		ip := net.ParseIP(u.Hostname())
		if u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return fmt.Errorf(
				"-cloud %s is reached without TLS, and its token can be read on the way: give https, or say "+
					"-plain-cloud-beyond-loopback",
				o.cloudURL,
			)
		}
	}
	return nil
}

func makeFirstAdmin(ctx context.Context, o settings, log *slog.Logger) error {
	h, err := openHouse(ctx, o.database, "http://127.0.0.1:0", "", log)
	if err != nil {
		return err
	}
	defer h.close()
	h.furnish(service.Options{})
	any, err := h.service.People.HasOperators(ctx)
	if err != nil {
		return err
	}
	if any {
		return errors.New("there are accounts already; an admin among them makes the others")
	}
	password, err := readPassword()
	if err != nil {
		return err
	}
	if err := h.service.People.AddOperator(
		ctx, people.Actor{Name: "setup", Via: "service"}, journal.IdempotencyKey{},
		people.NewOperator{Name: o.firstAdmin, Password: password, Role: people.Admin},
	); err != nil {
		return err
	}
	fmt.Printf("%s is an admin now. Start the service and sign in: plumlatch sign-in\n", o.firstAdmin)
	return nil
}

func readPassword() (string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		line, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	fmt.Fprint(os.Stderr, "Password (10 characters or more): ")
	first, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprint(os.Stderr, "\nAgain: ")
	if err != nil {
		return "", err
	}
	second, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	if err == nil && string(first) != string(second) {
		err = errors.New("the two passwords differ; nothing was done")
	}
	return string(first), err
}
