package httpapi

import (
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
)

func loginServerOf(l *record.LoginServer) *contract.LoginServer {
	if l == nil {
		return nil
	}
	s := l.Server
	out := contract.LoginServer{
		ReadAt:            &l.ReadAt,
		Unread:            optional(s.Unread),
		Refused:           optional(s.Refused),
		Doubt:             optional(s.Doubt),
		KeysOff:           optional(s.KeysOff),
		Methods:           []string{},
		Authorities:       []contract.Authority{},
		AuthoritiesUnread: optional(s.AuthoritiesUnread),
		Principals:        append([]string{}, s.Principals...),
		KeysCommand:       optional(s.KeysCommand),
		PrincipalsCommand: optional(s.PrincipalsCommand),
		Conditional:       append([]string{}, s.Conditional...),
	}
	for _, m := range s.Methods {
		out.Methods = append(out.Methods, string(m))
	}
	for _, a := range s.Authorities {
		out.Authorities = append(
			out.Authorities, contract.Authority{Type: a.Type, Fingerprint: a.Fingerprint, Comment: optional(a.Comment)},
		)
	}
	return &out
}

// serverReported is what somebody reports of an SSH server; nil where they do not.
func serverReported(s *contract.LoginServer) *reading.Server {
	if s == nil {
		return nil
	}
	out := reading.Server{
		Unread:            given(s.Unread),
		Refused:           given(s.Refused),
		Doubt:             given(s.Doubt),
		KeysOff:           given(s.KeysOff),
		AuthoritiesUnread: given(s.AuthoritiesUnread),
		Principals:        s.Principals,
		KeysCommand:       given(s.KeysCommand),
		PrincipalsCommand: given(s.PrincipalsCommand),
		Conditional:       s.Conditional,
	}
	for _, m := range s.Methods {
		out.Methods = append(out.Methods, sshdconfig.Method(m))
	}
	for _, a := range s.Authorities {
		out.Authorities = append(
			out.Authorities, reading.Authority{Type: a.Type, Fingerprint: a.Fingerprint, Comment: given(a.Comment)},
		)
	}
	return &out
}
