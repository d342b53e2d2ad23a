package fleet

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/cloud/adapter"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
)

const maxListBytes = 1 << 20

// ListedMachine is a machine of a list that was read.
type ListedMachine struct {
	machines.Machine
	// KnownAs is the instance that is recorded under its name or address already.
	KnownAs string
}

// ReadMachines reads a list of machines; user is the OS user to log in as where it
// says none. Nothing is kept.
func (s *Service) ReadMachines(ctx context.Context, text, user string) (machines.Format, []ListedMachine, error) {
	if len(text) > maxListBytes {
		return "", nil, &problem.Problem{
			Kind:   problem.TooLarge,
			Code:   "too-large",
			Field:  "text",
			Detail: fmt.Sprintf("the list has %d bytes; %d is the limit", len(text), maxListBytes),
		}
	}
	format, list, err := machines.Read(text, user)
	if err != nil {
		return format, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-list",
			Field:  "text",
			Detail: err.Error(),
			Remedy: "Give CSV with the heading name,address,port,login, a JSON array, or an OpenSSH client configuration",
		}
	}
	var names, addresses []string
	inList := map[string]bool{}
	for _, m := range list {
		names, addresses = append(names, m.Name, m.Via), append(addresses, m.Address)
		inList[m.Name] = m.Refused == "" || inList[m.Name]
	}
	known, err := s.store.InstancesKnown(ctx, names, addresses)
	if err != nil {
		return format, nil, err
	}
	out := make([]ListedMachine, len(list))
	for n, m := range list {
		out[n].Machine = m
		out[n].KnownAs = knownAs(m, known)
		at := slices.IndexFunc(known, func(i record.Instance) bool { return i.Name == m.Via })
		if m.Via != "" && at < 0 && !inList[m.Via] && m.Refused == "" {
			out[n].Refused = m.Via + ", by way of which it is reached, is neither recorded nor in the list"
		}
	}
	return format, out, nil
}

// knownAs is the instance that is recorded under the name of a machine, or at its address and by the same way; "" for
// none.
func knownAs(m machines.Machine, known []record.Instance) string {
	via := slices.IndexFunc(known, func(i record.Instance) bool { return i.Name == m.Via && m.Via != "" })
	for _, i := range known {
		same := i.PublicAddress == m.Address && i.SSHPort == m.Port
		switch {
		case i.Name == m.Name,
			same && m.Via == "" && i.Via == nil,
			same && via >= 0 && i.Via != nil && *i.Via == known[via].ID:
			return i.Name
		}
	}
	return ""
}

// ShownHostKeys asks an SSH server for its host keys. Nothing vouches for them.
// via is the instance by way of which it is reached; "" for straight.
func (s *Service) ShownHostKeys(ctx context.Context, address string, port int, via string) ([]keypair.Public, error) {
	if port == 0 {
		port = 22
	}
	if err := checkAddress(address, port); err != nil {
		return nil, err
	}
	target := sshio.Target{Address: address, Port: port}
	if via != "" {
		host, err := s.Instance(ctx, via)
		if err != nil {
			return nil, err
		}
		target = s.Jumps.By(host, address, port)
	}
	shown, err := sshio.HostKeys(ctx, target)
	if err != nil {
		return nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-ssh-server",
			Field:  "address",
			Where:  []string{address},
			Detail: err.Error(),
			Remedy: "See that the address and the port are right, and that a firewall lets this service in",
		}
	}
	var out []keypair.Public
	for _, k := range shown {
		public, err := keypair.ReadLine(k.Type() + " " + base64.StdEncoding.EncodeToString(k.Marshal()))
		if err != nil {
			return nil, fmt.Errorf("read the host key of %s: %w", address, err)
		}
		out = append(out, public)
	}
	return out, nil
}

func checkAddress(address string, port int) error {
	switch {
	case name.CheckHost(address) != nil:
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-address",
			Field:  "address",
			Detail: name.ErrHost.Error(),
			Remedy: "Give one such as 192.0.2.10 or gauge.example",
		}
	case port < 1 || port > 65535:
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-port",
			Field:  "port",
			Detail: fmt.Sprintf("%d is no port", port),
			Remedy: "Give one from 1 to 65535",
		}
	}
	return nil
}

// ServerFault asks an instance's guest agent, where it may be asked already, why its SSH server does not start; ""
// where nothing keeps it from that.
func (s *Service) ServerFault(ctx context.Context, name string) (asked bool, fault string, err error) {
	i, err := s.Instance(ctx, name)
	if err != nil || i.Adopted {
		return false, "", err
	}
	can, _, err := s.clouds.Outline(ctx, i.InCloud)
	if err != nil || !slices.Contains(can.Capabilities, cloud.CanGuestAgent) {
		return false, "", problem.FromCloud(err)
	}
	at := s.clouds.Of(i.InCloud)
	if state, err := at.Agent(ctx, i.CloudID); err != nil || state != adapter.AgentStateReady {
		return false, "", problem.FromCloud(err)
	}
	said, err := at.AgentCommand(ctx, i.CloudID, "/usr/sbin/sshd", "-t")
	switch {
	case err != nil:
		return false, "", problem.FromCloud(err)
	case said.Status == 0:
		return true, "", nil
	case said.Status == 126 || said.Status == 127: // there is no such program
		return false, "", nil
	}
	return true, text.Line(strings.TrimSpace(said.Errors), text.MaxLine), nil
}

// Approach is what is between an address and an instance's SSH port.
type Approach struct {
	From     string
	Instance record.Instance
	// Asked is whether a cloud was asked. State, Address and Rules are what it said.
	Asked          bool
	State, Address string
	Rules          []FirewallRule
	// AdmittedBy is the rule that lets the address in; nil if none does.
	AdmittedBy *FirewallRule
}

// FirewallRule is a rule that guards an instance's SSH port.
type FirewallRule struct {
	cloud.FirewallRule
	Admits bool
}

// Approach asks the cloud what is between an address and the instance.
func (s *Service) Approach(ctx context.Context, name, from string) (Approach, error) {
	i, err := s.Instance(ctx, name)
	if err != nil {
		return Approach{}, err
	}
	comes, err := netip.ParseAddr(from)
	if err != nil {
		return Approach{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-address",
			Field:  "from",
			Detail: fmt.Sprintf("%q is no IP address", from),
		}
	}
	out := Approach{From: comes.Unmap().String(), Instance: i}
	if i.Adopted {
		return out, nil
	}
	now, err := s.clouds.Of(i.InCloud).Instance(ctx, i.CloudID)
	if err != nil {
		return out, problem.FromCloud(err)
	}
	out.Asked, out.State, out.Address = true, string(now.State), now.PublicAddress
	can, _, err := s.clouds.Outline(ctx, i.InCloud)
	if err != nil {
		return out, problem.FromCloud(err)
	}
	for _, c := range can.Capabilities {
		if c == cloud.CanFirewall {
			err = s.approachRules(ctx, &out, now, comes.Unmap())
		}
	}
	return out, problem.FromCloud(err)
}

func (s *Service) approachRules(ctx context.Context, out *Approach, i cloud.Instance, comes netip.Addr) error {
	rules, err := s.clouds.Of(out.Instance.InCloud).FirewallRules(ctx)
	if err != nil {
		return err
	}
	for _, r := range rules {
		if r.Group != i.Firewall || r.Port != i.SshPort {
			continue
		}
		prefix, err := netip.ParsePrefix(r.Source)
		if err != nil {
			return errors.New("the cloud gave a firewall rule with the source " + r.Source)
		}
		rule := FirewallRule{r, prefix.Contains(comes)}
		out.Rules = append(out.Rules, rule)
		if rule.Admits && out.AdmittedBy == nil {
			out.AdmittedBy = &rule
		}
	}
	return nil
}
