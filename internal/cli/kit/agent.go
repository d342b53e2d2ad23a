package kit

import (
	"flag"
	"fmt"
	"net"
	"strings"

	"golang.org/x/crypto/ssh/agent"

	"plumlatch/internal/core/keypair"
)

// AgentFlags are the flags by which a key comes from the ssh-agent.
type AgentFlags struct {
	Use  bool
	pick string
}

func (a *AgentFlags) Flags(f *flag.FlagSet) {
	f.BoolVar(&a.Use, "agent", false, "take the key from the ssh-agent (SSH_AUTH_SOCK)")
	f.StringVar(&a.pick, "pick", "", "with -agent: `which` key, by its comment, a part of that, or a fingerprint")
}

// Agent returns the flags as if -agent had been given.
func (a AgentFlags) Agent() AgentFlags {
	a.Use = true
	return a
}

func (a AgentFlags) Check() error {
	if a.pick != "" && !a.Use {
		return &UsageError{"-pick goes with -agent"}
	}
	return nil
}

// dialAgent connects to the ssh-agent. Close the connection when done.
func (s *Session) dialAgent() (agent.ExtendedAgent, net.Conn, error) {
	path := s.Env.Getenv("SSH_AUTH_SOCK")
	if path == "" {
		return nil, nil, Missing(
			"no-agent", "no ssh-agent is running: SSH_AUTH_SOCK is not set", "Start one: eval $(ssh-agent)",
		)
	}
	conn, err := net.Dial("unix", path)
	if err != nil {
		return nil, nil, Missing("no-agent", "the ssh-agent does not answer: "+err.Error(), "")
	}
	return agent.NewClient(conn), conn, nil
}

// AgentKeys returns the keys that the ssh-agent holds and that are picked. Of
// what it holds but is no key that is known here, such as a certificate, it says so.
func (s *Session) AgentKeys(a AgentFlags) ([]keypair.Public, error) {
	client, conn, err := s.dialAgent()
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	held, err := client.List()
	if err != nil {
		return nil, fmt.Errorf("ask the ssh-agent for its keys: %w", err)
	}
	var keys []keypair.Public
	for _, h := range held {
		k, err := keypair.ReadBlob(h.Blob)
		if err != nil {
			if !s.Quiet && !s.Json {
				fmt.Fprintf(s.Env.Err, "Passed over in the ssh-agent: %s %s (%s)\n", h.Format, h.Comment, err)
			}
			continue
		}
		k.Comment = strings.ToValidUTF8(h.Comment, "?")
		if keypair.CheckComment(k.Comment) != nil {
			k.Comment = ""
		}
		keys = append(keys, k)
	}
	if len(keys) == 0 {
		return nil, Missing("no-key-in-agent", "the ssh-agent has no keys", "Add one: ssh-add FILE")
	}
	return pickKeys(keys, a.pick)
}

// pickKeys returns the keys that pick names: by fingerprint, else by the whole
// comment, else by a part of it; all for an empty one.
func pickKeys(keys []keypair.Public, pick string) ([]keypair.Public, error) {
	if pick == "" {
		return keys, nil
	}
	digest, isPrint := keypair.ReadFingerprint(pick)
	for _, fits := range []func(keypair.Public) bool{
		func(k keypair.Public) bool { return isPrint && k.HasDigest(digest) },
		func(k keypair.Public) bool { return k.Comment == pick },
		func(k keypair.Public) bool { return strings.Contains(k.Comment, pick) },
	} {
		var picked []keypair.Public
		for _, k := range keys {
			if fits(k) {
				picked = append(picked, k)
			}
		}
		if len(picked) > 0 {
			return picked, nil
		}
	}
	return nil, Missing(
		"no-key-in-agent", fmt.Sprintf("no key in the ssh-agent matches %q. It has:\n%s", pick, listKeys(keys)), "",
	)
}

// AgentKey returns the one key that is picked.
func (s *Session) AgentKey(a AgentFlags) (keypair.Public, error) {
	keys, err := s.AgentKeys(a)
	if err != nil {
		return keypair.Public{}, err
	}
	if len(keys) > 1 {
		return keypair.Public{}, Usage(
			fmt.Sprintf("%d keys in the ssh-agent match; say which with -pick:\n%s", len(keys), listKeys(keys)),
		)
	}
	return keys[0], nil
}

func listKeys(keys []keypair.Public) string {
	lines := make([]string, len(keys))
	for i, k := range keys {
		lines[i] = fmt.Sprintf("  %s  %s  %s", keypair.FormatSHA256(k.SHA256()), k.Type, k.Comment)
	}
	return strings.Join(lines, "\n")
}
