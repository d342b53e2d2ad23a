package fleet

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/name"
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
	for _, m := range list {
		names, addresses = append(names, m.Name), append(addresses, m.Address)
	}
	known, err := s.store.InstancesKnown(ctx, names, addresses)
	if err != nil {
		return format, nil, err
	}
	out := make([]ListedMachine, len(list))
	for n, m := range list {
		out[n].Machine = m
		for _, i := range known {
			if i.Name == m.Name || i.PublicAddress == m.Address && i.SSHPort == m.Port {
				out[n].KnownAs = i.Name
				break
			}
		}
	}
	return format, out, nil
}

// ShownHostKeys asks an SSH server for its host keys. Nothing vouches for them.
func (s *Service) ShownHostKeys(ctx context.Context, address string, port int) ([]keypair.Public, error) {
	if port == 0 {
		port = 22
	}
	if err := checkAddress(address, port); err != nil {
		return nil, err
	}
	shown, err := sshio.HostKeys(ctx, address, port)
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
