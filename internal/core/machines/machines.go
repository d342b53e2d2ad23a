// Package machines reads lists of machines that will be adopted: CSV (RFC 4180)
// with a heading, JSON (RFC 8259), and OpenSSH client configurations
// (ssh_config(5)). It reaches no machine and keeps nothing.
package machines

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
)

// Format is that of a list.
type Format string

// The formats.
const (
	CSV       Format = "csv"
	JSON      Format = "json"
	SSHConfig Format = "ssh-config"
)

// MaxMachines is the greatest number of machines in a list.
const MaxMachines = 5000

// Machine is one of a list.
type Machine struct {
	// Line is where it begins, counted from 1.
	Line    int
	Name    string
	Address string
	Port    int
	User    string
	Labels  map[string]string
	// HostKey is the SHA-256 fingerprint that one of its host keys must have; "" for none.
	HostKey string
	// Via is the name of the machine or instance by way of which it is reached; "" for straight.
	Via string
	// Logins are other OS users of it, from further lines of the list.
	Logins []string
	// LoginOf is the name of the machine, of an earlier line, that this line is another login of; "" for a machine.
	LoginOf string
	// Refused is why it cannot be adopted; "" if it can.
	Refused string
}

// ErrEmpty is returned for a list without a machine.
var ErrEmpty = errors.New("the list names no machine")

// Read reads a list, whose format it tells by its beginning. Names are made fit for
// records; a machine that cannot be adopted says why. Where the list says nothing of
// it, user is the OS user to log in as.
func Read(text, user string) (Format, []Machine, error) {
	text = strings.TrimPrefix(strings.ReplaceAll(text, "\r\n", "\n"), "\ufeff")
	format := formatOf(text)
	read := map[Format]func(string) ([]Machine, error){CSV: readCSV, JSON: readJSON, SSHConfig: readSSHConfig}[format]
	list, err := read(text)
	switch {
	case err != nil:
		return format, nil, err
	case len(list) == 0:
		return format, nil, ErrEmpty
	case len(list) > MaxMachines:
		return format, nil, fmt.Errorf("the list has %d machines; %d is the limit", len(list), MaxMachines)
	}
	judge(list, user)
	return format, list, nil
}

func formatOf(text string) Format {
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
			continue
		case line[0] == '[' || line[0] == '{':
			return JSON
		}
		word, _ := setting(line)
		if slices.Contains([]string{"host", "match", "include", "hostname", "user", "port", "identityfile"}, word) &&
			!strings.ContainsAny(line, ",;") {
			return SSHConfig
		}
		return CSV
	}
	return CSV
}

// place is where a machine is: two that are reached in different ways are two, though their addresses are one.
type place struct {
	via, address string
	port         int
}

// judge refuses what cannot be adopted, and what is in the list twice. Lines of one address with other users are other
// logins of the machine.
func judge(list []Machine, user string) {
	names, places := map[string]int{}, map[place]int{}
	called := calledIn(list)
	for n := range list {
		m := &list[n]
		if m.Name == "" {
			m.Name = m.Address
		}
		if m.User == "" {
			m.User = user
		}
		m.Name = name.Suggest(m.Name)
		if m.Port == 0 && m.Refused == "" {
			m.Port = 22
		}
		if m.Via != "" {
			m.Via = called(m.Via)
		}
		at := place{m.Via, m.Address, m.Port}
		first, again := places[at]
		d, ok := keypair.ReadFingerprint(m.HostKey)
		switch {
		case m.Refused != "":
		case m.HostKey != "" && (!ok || d.Kind != "sha256"):
			m.Refused = fmt.Sprintf("%q is no SHA-256 fingerprint of a host key", m.HostKey)
		case m.Via != "" && m.Via == m.Name:
			m.Refused = "it is reached by way of itself"
		case again && name.CheckUser(m.User) != nil:
			m.Refused = fmt.Sprintf("%q is no OS user", m.User)
		case again && (m.User == list[first].User || slices.Contains(list[first].Logins, m.User)):
			m.Refused = fmt.Sprintf("%s of the same address is on line %d already", m.User, list[first].Line)
		case again && m.HostKey != "" && list[first].HostKey != "" && m.HostKey != list[first].HostKey:
			m.Refused = fmt.Sprintf("line %d expects another host key at the same address", list[first].Line)
		case again:
			of := &list[first]
			of.Logins, m.LoginOf = append(of.Logins, m.User), of.Name
			if of.HostKey == "" {
				of.HostKey = m.HostKey
			}
			continue
		case m.Name == "":
			m.Refused = "it has no name that could be used"
		case m.Address == "":
			m.Refused = "it has no address"
		case m.Port < 1 || m.Port > 65535:
			m.Refused = fmt.Sprintf("%d is no port", m.Port)
		case m.User == "":
			m.Refused = "it does not say as which OS user to log in"
		case names[m.Name] > 0:
			m.Refused = fmt.Sprintf("the name %s is on line %d already", m.Name, names[m.Name])
		}
		if m.Refused == "" {
			names[m.Name], places[at] = m.Line, n
		}
	}
}

// calledIn returns what the machine is called that a list names a jump host by: its name, in any spelling, or its
// address.
func calledIn(list []Machine) func(string) string {
	of := map[string]string{}
	for _, m := range list {
		called := name.Suggest(m.Name)
		if called == "" {
			called = name.Suggest(m.Address)
		}
		for _, word := range []string{m.Address, called, m.Name} {
			if _, there := of[word]; !there && word != "" {
				of[word] = called
			}
		}
	}
	return func(word string) string {
		if called, there := of[word]; there {
			return called
		}
		return name.Suggest(word)
	}
}

var columns = map[string][]string{
	"name":    {"name", "host", "instance"},
	"address": {"address", "hostname", "ip"},
	"port":    {"port"},
	"login":   {"login", "login_user", "user"},

	"host_key": {"host_key", "host key", "fingerprint"},
	"via":      {"via", "jump_host", "jump host"},
}

// readCSV reads a list whose first line names its columns: name, address, port,
// login, host_key, via; any other column is a label of that name.
func readCSV(text string) ([]Machine, error) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comment, r.TrimLeadingSpace = '#', true
	first, _, _ := strings.Cut(strings.TrimLeft(text, "\n"), "\n")
	for _, comma := range []rune{';', '\t'} {
		if strings.ContainsRune(first, comma) && !strings.Contains(first, ",") {
			r.Comma = comma
		}
	}
	heading, err := r.Read()
	if errors.Is(err, io.EOF) {
		return nil, ErrEmpty
	}
	if err != nil {
		return nil, fmt.Errorf("the list cannot be read: %w", err)
	}
	at := map[string]int{}
	labels := map[int]string{}
	for n, title := range heading {
		title = strings.ToLower(strings.TrimSpace(title))
		found := false
		for column, titles := range columns {
			if slices.Contains(titles, title) {
				at[column], found = n, true
			}
		}
		if !found && title != "" {
			labels[n] = strings.TrimPrefix(title, "label:")
		}
	}
	if _, ok := at["address"]; !ok {
		return nil, errors.New(
			"line 1: the list needs a heading that names its columns: name, address, port, login, and labels; none is called " +
				"address",
		)
	}
	var out []Machine
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the list cannot be read: %w", err)
		}
		line, _ := r.FieldPos(0)
		cell := func(column string) string {
			if n, ok := at[column]; ok {
				return strings.TrimSpace(row[n])
			}
			return ""
		}
		m := Machine{
			Line: line, Name: cell("name"), Address: cell("address"), User: cell("login"), HostKey: cell("host_key"),
			Via: cell("via"),
		}
		m.setPort(cell("port"))
		for n, label := range labels {
			if value := strings.TrimSpace(row[n]); value != "" {
				m.label(label, value)
			}
		}
		out = append(out, m)
	}
}

func (m *Machine) setPort(text string) {
	if text == "" {
		return
	}
	var err error
	if m.Port, err = strconv.Atoi(text); err != nil || m.Port == 0 {
		m.Refused = fmt.Sprintf("%q is no port", text)
	}
}

func (m *Machine) label(name, value string) {
	if m.Labels == nil {
		m.Labels = map[string]string{}
	}
	m.Labels[name] = value
}

// readJSON reads an array of objects with name, address, port, login_user, host_key, via and labels.
func readJSON(text string) ([]Machine, error) {
	d := json.NewDecoder(strings.NewReader(text))
	fail := func(err error) ([]Machine, error) {
		return nil, fmt.Errorf("line %d: the list cannot be read: %w", lineAt(text, d.InputOffset()), err)
	}
	if open, err := d.Token(); err != nil || open != json.Delim('[') {
		return fail(errors.Join(errors.New("it is no array of machines"), err))
	}
	var out []Machine
	for d.More() {
		line := lineAt(
			text,
			d.InputOffset()+int64(len(text[d.InputOffset():])-len(strings.TrimLeft(text[d.InputOffset():], " \t\n,"))),
		)
		var one struct {
			Name, Address string
			Port          int
			LoginUser     string `json:"login_user"`
			Login         string
			HostKey       string `json:"host_key"`
			Via           string
			Labels        map[string]string
		}
		if err := d.Decode(&one); err != nil {
			return fail(err)
		}
		m := Machine{
			Line:    line,
			Name:    one.Name,
			Address: one.Address,
			Port:    one.Port,
			User:    one.LoginUser,
			Labels:  one.Labels,
			HostKey: one.HostKey,
			Via:     one.Via,
		}
		if m.User == "" {
			m.User = one.Login
		}
		out = append(out, m)
	}
	if _, err := d.Token(); err != nil {
		return fail(err)
	}
	return out, nil
}

func lineAt(text string, offset int64) int {
	return 1 + bytes.Count([]byte(text[:min(int(offset), len(text))]), []byte("\n"))
}

// block is a Host block of a configuration.
type block struct {
	line     int
	patterns []string
	settings map[string]string
}

// readSSHConfig reads the Host blocks that name a host without a wildcard. For
// each setting the first value that fits counts, as in ssh_config(5).
func readSSHConfig(text string) ([]Machine, error) {
	blocks := []block{{patterns: []string{"*"}, settings: map[string]string{}}}
	skipped := false
	number := 0
	for line := range strings.Lines(text) {
		number++
		word, value := setting(strings.TrimSpace(line))
		switch {
		case word == "" || word[0] == '#':
		case word == "host":
			skipped = false
			blocks = append(
				blocks,
				block{line: number, patterns: strings.Fields(strings.ReplaceAll(value, `"`, "")), settings: map[string]string{}},
			)
		case word == "match":
			skipped = true // what it depends on is known to ssh alone
		case !skipped:
			settings := blocks[len(blocks)-1].settings
			if _, set := settings[word]; !set {
				settings[word] = strings.Trim(value, `"`)
			}
		}
	}
	var out []Machine
	for _, b := range blocks[1:] {
		host := b.patterns
		host = slices.DeleteFunc(slices.Clone(host), func(p string) bool { return strings.ContainsAny(p, "*?!") })
		if len(host) == 0 {
			continue
		}
		get := func(word string) string { return firstOf(blocks, host[0], word) }
		m := Machine{Line: b.line, Name: host[0], Address: host[0], User: get("user")}
		if at := get("hostname"); at != "" {
			m.Address = strings.ReplaceAll(at, "%h", host[0])
		}
		m.setPort(get("port"))
		m.Via = jumpHost(get("proxyjump"))
		switch command := get("proxycommand"); {
		case strings.Contains(m.Via, ","):
			m.Refused = "it is reached through several hosts (" + m.Via + "): give the last of them a ProxyJump of its own"
		case m.Via == "" && command != "" && command != "none":
			m.Refused = "it is reached by a command (" + command + "), which the service does not run; ProxyJump it knows"
		}
		out = append(out, m)
	}
	return out, nil
}

// jumpHost is the host of a ProxyJump: [user@]host[:port], maybe as a URI.
func jumpHost(value string) string {
	if strings.EqualFold(value, "none") || strings.Contains(value, ",") {
		return strings.TrimPrefix(strings.ToLower(value), "none")
	}
	value = strings.TrimSuffix(strings.TrimPrefix(value, "ssh://"), "/")
	value = value[strings.LastIndex(value, "@")+1:]
	if host, _, err := net.SplitHostPort(value); err == nil {
		return host
	}
	return strings.Trim(value, "[]")
}

// setting splits a line into its keyword, in lower case, and its value.
func setting(line string) (word, value string) {
	end := strings.IndexAny(line, " \t=")
	if end < 0 {
		return strings.ToLower(line), ""
	}
	return strings.ToLower(line[:end]), strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line[end:]), "="))
}

func firstOf(blocks []block, host, word string) string {
	for _, b := range blocks {
		fits := false
		for _, p := range b.patterns {
			if not, negated := strings.CutPrefix(p, "!"); negated && matches(not, host) {
				fits = false
				break
			}
			fits = fits || matches(p, host)
		}
		if v, set := b.settings[word]; fits && set {
			return v
		}
	}
	return ""
}

// Fits reports whether a host fits a pattern with * and ?, as in ssh_config(5).
func Fits(pattern, host string) bool { return matches(pattern, host) }

// matches reports whether a pattern with * and ? fits the text. It goes back to
// the last * alone, so that no pattern takes long.
func matches(pattern, text string) bool {
	p, t, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t]):
			p++
			t++
		case star >= 0:
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}
