package outbound

import (
	"errors"
	"net"
	"testing"
	"time"
)

func TestTheServiceDoesNotConnectToItsOwnMachineUnlessAllowed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	for _, host := range []string{
		"127.0.0.1",
		"localhost",
		"0.0.0.0",
		"127.8.9.1",
		"::ffff:127.0.0.1",
		"169.254.169.254",
		"::1",
		"fe80::1",
		"224.0.0.1",
		"::",
		"fd00:ec2::254",
		"64:ff9b::a9fe:a9fe",
		"64:ff9b::7f00:1",
		"100.100.100.200",
		"168.63.129.16",
		"192.0.0.192",
	} {
		RefuseLocal(true)
		conn, err := Dialer(time.Second).DialContext(t.Context(), "tcp", net.JoinHostPort(host, port))
		if err == nil {
			conn.Close()
		}
		var refused *RefusedError
		if !errors.As(err, &refused) {
			t.Errorf("%s: %v, want a refusal", host, err)
		}
	}
	RefuseLocal(false)
	conn, err := Dialer(time.Second).DialContext(t.Context(), "tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	conn.Close()
}
