package httpapi

import (
	"io/fs"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/means"
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
		KeysUnasked:       optional(s.KeysUnasked),
		PrincipalsUnasked: optional(s.PrincipalsUnasked),
	}
	if len(s.Names) > 0 {
		out.Names = new(append([]string{}, s.Names...))
	}
	if len(s.NamedKeys) > 0 {
		out.NamedKeys = new(each(s.NamedKeys, func(k reading.NamedKey) contract.NamedKey {
			return contract.NamedKey{
				Type: k.Type, Fingerprint: k.Fingerprint, Comment: optional(k.Comment), Limits: optional(k.Limits),
			}
		}))
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
		KeysUnasked:       given(s.KeysUnasked),
		PrincipalsUnasked: given(s.PrincipalsUnasked),
		Names:             given(s.Names),
	}
	for _, k := range given(s.NamedKeys) {
		out.NamedKeys = append(out.NamedKeys, reading.NamedKey{
			Authority: reading.Authority{Type: k.Type, Fingerprint: k.Fingerprint, Comment: given(k.Comment)},
			Limits:    given(k.Limits),
		})
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

// machineReported is what somebody reports of all users of a machine; nil where they do not.
func machineReported(m *contract.ReportedMachine) *means.Machine {
	if m == nil {
		return nil
	}
	out := &means.Machine{Machine: reading.Machine{
		Rights: reading.Rights(m.Rights), Accounts: m.Accounts, NoWay: m.NoWay, UnreadMore: max(m.UnreadMore, 0),
		Remedy: text.Line(given(m.Remedy), text.MaxMessage),
	}}
	for _, u := range m.Unread {
		out.AddUnread(u.User, u.Why)
	}
	for _, file := range m.Gone {
		out.AddGone(file)
	}
	for _, o := range m.Others {
		seen := means.Seen{Server: serverReported(&o.Server)}
		for _, f := range o.Files {
			seen.Files = append(seen.Files, means.File{
				Path: f.Path, There: f.There, Content: f.Content, Mode: fs.FileMode(f.Mode) & fs.ModePerm,
			})
		}
		out.Others = append(out.Others, means.Account{Name: o.User, Seen: seen})
	}
	return out
}
