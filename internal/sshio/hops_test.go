package sshio_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/sshio"
	"plumlatch/internal/sshio/sshdtest"
)

// lettingIn makes a key that opens the server, with options of its line.
func lettingIn(t *testing.T, s *sshdtest.Server, options string) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	line := options + string(ssh.MarshalAuthorizedKey(signer.PublicKey()))
	if err := os.WriteFile(s.KeysFile, []byte(line), 0o600); err != nil {
		t.Fatal(err)
	}
	return signer
}

func hopOf(name string, s *sshdtest.Server, signers ...ssh.Signer) sshio.Hop {
	return sshio.Hop{Name: name, Signers: signers, Target: sshio.Target{
		User: s.User, Address: "127.0.0.1", Port: s.Port, HostKeys: [][]byte{s.HostKey.Marshal()},
	}}
}

// through is the machine, as it is reached over hops.
func through(p *sshio.Pool, s *sshdtest.Server, hops ...sshio.Hop) sshio.Target {
	t := hopOf("", s).Target
	t.Road = func(ctx context.Context) (net.Conn, string, error) {
		conn, err := p.Connect(ctx, hops, t.Address, t.Port)
		return conn, net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), err
	}
	return t
}

func TestAMachineIsReachedOverJumpHostsEachOfWhichIsChecked(t *testing.T) {
	outer, inner, machine := sshdtest.Start(t), sshdtest.Start(t), sshdtest.Start(t)
	toOuter, toInner, toMachine := lettingIn(t, outer, ""), lettingIn(t, inner, ""), lettingIn(t, machine, "")
	var pool sshio.Pool
	target := through(&pool, machine, hopOf("outer", outer, toOuter), hopOf("inner", inner, toInner))
	var both sync.WaitGroup
	for range 8 { // at once, over one connection with each jump host
		both.Go(func() {
			session, err := sshio.Login(t.Context(), target, toMachine)
			if err != nil {
				t.Error(err)
				return
			}
			defer session.Close()
			if out, err := session.Run(nil, "echo", "in"); err != nil || string(out) != "in\n" {
				t.Errorf("%q %v", out, err)
			}
		})
	}
	both.Wait()
	if keys, err := sshio.HostKeys(t.Context(), target); err != nil ||
		string(keys[0].Marshal()) != string(machine.HostKey.Marshal()) {
		t.Errorf("the host keys over the jump hosts: %v %v", keys, err)
	}
	if yes, err := sshio.Accepts(t.Context(), target, toInner.PublicKey().Marshal()); yes || err != nil {
		t.Errorf("a key that does not open the machine: %v %v", yes, err)
	}

	// A connection that is gone is made again.
	if err := os.WriteFile(outer.KeysFile, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := sshio.Login(t.Context(), target, toMachine); err != nil {
		t.Errorf("while the connection with the jump host stays: %v", err)
	}
	var fresh sshio.Pool
	target = through(&fresh, machine, hopOf("outer", outer, toOuter), hopOf("inner", inner, toInner))
	var hop *sshio.HopError
	_, err := sshio.Login(t.Context(), target, toMachine)
	if !errors.As(err, &hop) || hop.Hop != "outer" || !hop.Refused || errors.Is(err, sshio.ErrRefused) {
		t.Errorf("the outer jump host lets nobody in: %v", err)
	}
	if yes, err := sshio.Accepts(t.Context(), target, toMachine.PublicKey().Marshal()); yes || err == nil {
		t.Errorf("it is taken for an answer of the machine: %v %v", yes, err)
	}
}

func TestWhatAJumpHostDoesIsNotTakenForTheMachine(t *testing.T) {
	gate, machine := sshdtest.Start(t), sshdtest.Start(t)
	toMachine := lettingIn(t, machine, "")
	other := sshdtest.Start(t)
	for name, c := range map[string]struct {
		hop     func(t *testing.T) sshio.Hop
		changed bool
	}{
		"a jump host with another host key": {func(t *testing.T) sshio.Hop {
			h := hopOf("gate", gate, lettingIn(t, gate, ""))
			h.Target.HostKeys = [][]byte{other.HostKey.Marshal()}
			return h
		}, true},
		"a line that forbids to go on": {func(t *testing.T) sshio.Hop {
			return hopOf("gate", gate, lettingIn(t, gate, "no-port-forwarding "))
		}, false},
		"a jump host that does not answer": {func(t *testing.T) sshio.Hop {
			h := hopOf("gate", gate, lettingIn(t, gate, ""))
			h.Target.Port = sshdtest.FreePort(t)
			return h
		}, false},
		"a machine that does not answer": {func(t *testing.T) sshio.Hop {
			machine.Port = sshdtest.FreePort(t)
			return hopOf("gate", gate, lettingIn(t, gate, ""))
		}, false},
	} {
		port := machine.Port
		h := c.hop(t)
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		_, err := sshio.Login(ctx, through(new(sshio.Pool), machine, h), toMachine)
		cancel()
		machine.Port = port
		var hop *sshio.HopError
		if !errors.As(err, &hop) || hop.Hop != "gate" || hop.Changed != c.changed || hop.Refused ||
			errors.Is(err, sshio.ErrHostKey) {
			t.Errorf("%s: %v", name, err)
		}
	}
	many := make([]sshio.Hop, sshio.MaxHops+1)
	if _, err := new(sshio.Pool).Connect(t.Context(), many, "127.0.0.1", 22); err == nil {
		t.Error("any number of jump hosts is gone over")
	}
}

func TestAHostileJumpHostHoldsNobodyForEver(t *testing.T) {
	gate, machine := sshdtest.Start(t), sshdtest.Start(t)
	toGate, toMachine := lettingIn(t, gate, ""), lettingIn(t, machine, "")
	silent, err := net.Listen("tcp", "127.0.0.1:0") // accepts, and never says anything
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	target := through(new(sshio.Pool), machine, hopOf("gate", gate, toGate))
	target.Port = silent.Addr().(*net.TCPAddr).Port
	hop := hopOf("gate", gate, toGate)
	target.Road = func(ctx context.Context) (net.Conn, string, error) {
		conn, err := new(sshio.Pool).Connect(ctx, []sshio.Hop{hop}, "127.0.0.1", target.Port)
		return conn, silent.Addr().String(), err
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	ended := make(chan error, 1)
	go func() {
		_, err := sshio.Login(ctx, target, toMachine)
		ended <- err
	}()
	select {
	case err := <-ended:
		if err == nil {
			t.Error("it is let in by nobody")
		}
	case <-time.After(30 * time.Second):
		t.Error("a machine that says nothing holds a login")
	}
}
