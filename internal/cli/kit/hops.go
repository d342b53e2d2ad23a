package kit

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

// hops is what a session needs to pass through jump hosts.
type hops struct {
	pool sshio.Pool

	mu   sync.Mutex
	keys map[string][]ssh.Signer // that are tried, by the name of the jump host
	with []AtHand                // that were named last
}

// mostHopKeys is how many private keys are tried at a jump host: a server ends the connection after six (MaxAuthTries
// of sshd_config(5)).
const mostHopKeys = 5

// TargetOf is how to reach a login, with the pinned host keys. Jump hosts on the way are passed with the first private
// key that opens them: one on this machine, in the ssh-agent, or one of with, which
// also counts for later ones where none is named.
func (s *Session) TargetOf(c apiclient.Connection, with []AtHand) (sshio.Target, error) {
	t, err := targetOf(c.User, c.Address, c.Port, c.HostKeys)
	if err == nil && len(t.HostKeys) == 0 {
		err = Refused(
			"no-host-key", "no host key is pinned for this instance, so nothing shows that it is the right one",
			"",
		)
	}
	t.Road = s.road(c, with)
	return t, err
}

// Unpinned is how to reach a machine that is asked for its host keys.
func (s *Session) Unpinned(c apiclient.Connection, with []AtHand) sshio.Target {
	return sshio.Target{Address: c.Address, Port: c.Port, Road: s.road(c, with)}
}

// road is nil where the machine is reached straight.
func (s *Session) road(c apiclient.Connection, with []AtHand) sshio.Road {
	via := Given(c.Via)
	if len(via) == 0 {
		return nil
	}
	s.hops.mu.Lock()
	if len(with) > 0 {
		s.hops.with = with
	}
	with = s.hops.with
	s.hops.mu.Unlock()
	return func(ctx context.Context) (net.Conn, string, error) {
		address := net.JoinHostPort(c.Address, strconv.Itoa(c.Port))
		var way []sshio.Hop
		for _, h := range via {
			hop, err := s.hop(ctx, h, with)
			if err != nil {
				return nil, address, err
			}
			way = append(way, hop)
		}
		conn, err := s.hops.pool.Connect(ctx, way, c.Address, c.Port)
		return conn, address, err
	}
}

// TryHops goes over the jump hosts on the way, up to the machine's port. The error is a *sshio.HopError where one of
// them does not let through.
func (s *Session) TryHops(ctx context.Context, c apiclient.Connection, with []AtHand) error {
	via := Given(c.Via)
	for n := range via {
		part := apiclient.Connection{Address: c.Address, Port: c.Port, Via: new(via[:n+1])}
		if n+1 < len(via) {
			part.Address, part.Port = via[n+1].Address, via[n+1].Port
		}
		conn, _, err := s.road(part, with)(ctx)
		if err != nil {
			return err
		}
		conn.Close()
	}
	return nil
}

// HopIdentity is a file for ssh's -i that opens a jump host; "" where none is known here.
func (s *Session) HopIdentity(ctx context.Context, client *apiclient.Client, instance string) (string, error) {
	openers, err := Answer[apiclient.OpeningPage](client.ListOpeners(ctx, instance, &apiclient.ListOpenersParams{}))
	if err != nil {
		return "", err
	}
	return s.Identity(openers.Items, AgentFlags{})
}

func (s *Session) hop(ctx context.Context, h apiclient.Hop, with []AtHand) (sshio.Hop, error) {
	if Given(h.Hidden) {
		return sshio.Hop{}, errors.New("a jump host is on the way that you may not see")
	}
	hop := sshio.Hop{Name: h.Instance}
	var err error
	if hop.Target, err = targetOf(h.User, h.Address, h.Port, h.HostKeys); err != nil {
		return hop, err
	}
	if hop.Signers, err = s.hopKeys(ctx, h.Instance); err != nil {
		return hop, err
	}
	for _, k := range with {
		hop.Signers = append(hop.Signers, k.Signer)
	}
	if hop.Signers = hop.Signers[:min(len(hop.Signers), mostHopKeys)]; len(hop.Signers) == 0 {
		return hop, fmt.Errorf(
			"no private key that opens the jump host %s was found on this machine: plumlatch why %s", h.Instance, h.Instance,
		)
	}
	return hop, nil
}

// hopKeys are private keys on this machine and in the ssh-agent that open a jump host, as far as is recorded.
func (s *Session) hopKeys(ctx context.Context, instance string) ([]ssh.Signer, error) {
	s.hops.mu.Lock()
	defer s.hops.mu.Unlock()
	if found, there := s.hops.keys[instance]; there {
		return found, nil
	}
	client, err := s.Connect()
	if err != nil {
		return nil, err
	}
	openers, err := Answer[apiclient.OpeningPage](client.ListOpeners(ctx, instance, &apiclient.ListOpenersParams{}))
	if err != nil {
		return nil, err
	}
	var out []ssh.Signer
	if file := s.FileFor(openers.Items); file != "" {
		if k, err := s.FileKey(file, "", true); err == nil {
			out = append(out, k.Signer)
		}
	}
	if s.Env.Getenv("SSH_AUTH_SOCK") != "" {
		// The connection to the agent stays for as long as this process.
		held, _, err := s.agentKeys(AgentFlags{})
		for _, k := range held {
			for _, o := range openers.Items {
				if err == nil && o.Key.Sha256 == keypair.FormatSHA256(k.SHA256()) {
					out = append(out, k.Signer)
				}
			}
		}
	}
	if s.hops.keys == nil {
		s.hops.keys = map[string][]ssh.Signer{}
	}
	s.hops.keys[instance] = out
	return out, nil
}

func targetOf(user, address string, port int, hostKeys []apiclient.HostKey) (sshio.Target, error) {
	t := sshio.Target{User: user, Address: address, Port: port}
	for _, h := range hostKeys {
		k, err := keypair.ReadLine(h.PublicKey)
		if err != nil {
			return t, fmt.Errorf("the pinned host key %s cannot be read: %w", h.Sha256, err)
		}
		t.HostKeys = append(t.HostKeys, k.Blob)
	}
	return t, nil
}
