package httpapi

import (
	"slices"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/weakness"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/keys"
)

func each[A, B any](in []A, f func(A) B) []B {
	out := make([]B, len(in))
	for i := range in {
		out[i] = f(in[i])
	}
	return out
}

func publicOf(k record.Key) keypair.Public {
	return keypair.Public{Algorithm: k.Algorithm, Type: k.Type, Bits: k.Bits, Blob: k.Blob, Comment: k.Comment}
}

func fingerprintsOf(p keypair.Public) contract.Fingerprints {
	f := contract.Fingerprints{
		Sha256: keypair.FormatSHA256(p.SHA256()),
		Md5:    keypair.FormatMD5(p.MD5()),
		Sshfp:  optional(p.SSHFP()),
	}
	if sum := p.SPKIMD5(); sum != nil {
		f.SpkiMd5 = new(keypair.FormatHex(sum))
	}
	return f
}

func findingOf(f weakness.Finding) contract.Finding {
	return contract.Finding{
		Code:   f.Code,
		Weight: contract.FindingWeight(f.Weight),
		Text:   f.Text,
		Remedy: f.Remedy,
		ActBy:  optional(f.ActBy),
	}
}

func namedOf(n record.Named) contract.Named {
	out := contract.Named{Kind: contract.NamedKind(n.Kind), Name: n.Name, About: n.About}
	if n.SHA256 != nil {
		out.Sha256 = new(keypair.FormatSHA256(n.SHA256))
	}
	return out
}

func holderOf(k record.Holder) contract.Holder {
	return contract.Holder{
		Name:    k.Name,
		Kind:    contract.HolderKind(k.Kind),
		Title:   k.Title,
		Members: list(split(k.Members)),
		Left:    optional(k.LeftAt != nil),
	}
}

func keyOf(k record.Key) contract.Key {
	p := publicOf(k)
	out := contract.Key{
		Id: k.ID, Name: k.Name, Type: k.Type, Algorithm: k.Algorithm, Bits: k.Bits, Fingerprints: fingerprintsOf(p),
		PublicKey: p.Line(), Comment: k.Comment, Purpose: k.Purpose, Labels: k.Labels, Custody: contract.Custody(k.Custody),
		Origin: contract.Origin(
			k.Origin,
		), State: contract.KeyState(k.State), CreatedAt: k.CreatedAt, CreatedBy: k.CreatedBy, Opens: k.Opens,
		Findings: each(weakness.Judge(p), findingOf),
	}
	if len(k.SharesPrimeWith) > 0 {
		out.Findings = append([]contract.Finding{findingOf(weakness.SharedPrimeFinding(k.SharesPrimeWith))}, out.Findings...)
	}
	if k.StewardOf != nil {
		out.Steward = new(true)
	}
	out.ProvedAt, out.ProvedBy = k.ProvedAt, optional(k.ProvedBy)
	if k.PKCS8SHA1 != nil {
		out.Fingerprints.Pkcs8Sha1 = new(keypair.FormatHex(k.PKCS8SHA1))
	}
	if k.Holder != nil {
		out.Holder = new(holderOf(*k.Holder))
	}
	return out
}

func instanceOf(i record.Instance) contract.Instance {
	costs := fleet.StopCosts(i)
	if costs == nil {
		costs = []string{}
	}
	return contract.Instance{
		Id:      i.ID,
		Name:    i.Name,
		State:   contract.InstanceState(i.State),
		Image:   i.Image,
		Size:    i.Size,
		Zone:    i.Zone,
		Region:  i.Region,
		Cloud:   i.CloudName,
		CloudId: i.CloudID, PrivateAddress: i.PrivateAddress, PublicAddress: i.PublicAddress, StaticAddress: i.StaticAddress,
		KeyLabel:   i.KeyLabel,
		Labels:     i.Labels,
		Keys:       i.Keys,
		StopCosts:  costs,
		CreatedAt:  i.CreatedAt,
		CreatedBy:  i.CreatedBy,
		Connection: connectionOf(i, i.LoginUser), Adopted: i.Adopted, BroughtIn: i.BroughtIn,
	}
}

func connectionOf(i record.Instance, user string) contract.Connection {
	return contract.Connection{
		User:     user,
		Address:  i.DialAddress(len(i.Hops) > 0),
		Port:     i.SSHPort,
		HostKeys: each(i.HostKeys, hostKeyOf),
		Via:      viaOf(i.Hops),
	}
}

// viaOf are the jump hosts on a way, the first to be reached first.
func viaOf(hops []record.Hop) *[]contract.Hop {
	if len(hops) == 0 {
		return nil
	}
	out := make([]contract.Hop, 0, len(hops))
	for n, h := range slices.Backward(hops) {
		i := h.Instance
		if h.Hidden {
			out = append(out, contract.Hop{HostKeys: []contract.HostKey{}, Hidden: new(true)})
			continue
		}
		out = append(out, contract.Hop{
			Instance: i.Name, User: i.LoginUser, Address: i.DialAddress(n < len(hops)-1), Port: i.SSHPort,
			HostKeys: each(i.HostKeys, hostKeyOf),
		})
	}
	return &out
}

func hostKeyOf(h record.HostKey) contract.HostKey {
	return contract.HostKey{
		Algorithm: h.Algorithm, Sha256: keypair.FormatSHA256(h.SHA256), Learnt: h.Learnt, PinnedAt: h.PinnedAt,
		PublicKey: keypair.Public{Algorithm: h.Algorithm, Blob: h.Blob}.Line(),
	}
}

func openingOf(o record.Opening) contract.Opening {
	seen := reach.NeverLooked
	if o.Present != nil {
		seen = reach.NotSeen
		if *o.Present {
			seen = reach.Seen
		}
	}
	status, _ := reach.StatusOf(o.GrantedAt != nil, seen) // the store gives no pair that is neither granted nor seen
	return contract.Opening{
		Key: contract.KeyRef{
			Name:   o.KeyName,
			Type:   o.KeyType,
			Bits:   o.KeyBits,
			Sha256: keypair.FormatSHA256(o.KeySHA256),
			Holder: o.HolderName,
		},
		Login: o.OSUser + "@" + o.InstanceName, OsUser: o.OSUser, Instance: o.InstanceName, Region: o.Region,
		InstanceState: contract.InstanceState(o.InstanceState), Status: contract.Status(status),
		GrantedAt: o.GrantedAt, Until: o.Until, GrantedBy: o.GrantedBy, Reason: o.Reason, SeenAt: o.SeenAt, SeenBy: o.Method,
		Limits: optional(
			given(o.Limits),
		), EnteredAt: o.EnteredAt,
		ProvedAt: o.ProvedAt,
		KeyState: new(contract.KeyState(o.KeyState)),
		Steward:  optional(o.Steward),
	}
}

func runOf(r record.Run) contract.Run {
	return contract.Run{
		Id:          r.ID,
		Kind:        contract.RunKind(r.Kind),
		Instance:    r.Instance.Name,
		State:       contract.RunState(r.State),
		Version:     int(r.Version),
		RequestedBy: r.RequestedBy,
		Reason:      optional(r.Reason),
		CreatedAt:   r.CreatedAt,
		EndedAt:     r.EndedAt,
		Error:       optional(r.Error),
		CommittedAt: r.CommittedAt,
		Waits:       waitsOf(r),
		Steps: each(r.Steps, func(s record.RunStep) contract.Step {
			return contract.Step{
				Name: s.Name, Title: s.Title, State: contract.StepState(s.State), Intent: s.Intent, Undo: s.Undo,
				Outcome: optional(s.Outcome), Percent: optional(s.Percent), StartedAt: s.StartedAt, EndedAt: s.EndedAt,
			}
		}),
	}
}

func waitsOf(r record.Run) *contract.RunWaits {
	w := r.Waits
	if w == nil || r.EndedAt != nil {
		return nil
	}
	return &contract.RunWaits{
		Step:   w.Step,
		Undo:   w.Undo,
		Who:    w.Who,
		What:   w.What,
		Next:   optional(w.Next),
		ByHand: w.ByHand,
		Since:  w.Since,
	}
}

func tokenOf(t record.Token) contract.Token {
	return contract.Token{
		Id:         t.ID,
		Name:       t.Name,
		Person:     t.Person,
		Role:       contract.Role(t.Role),
		Only:       optional(t.Only),
		Charter:    optional(t.Charter),
		Unsigned:   optional(t.Unsigned),
		Limits:     t.Limits,
		CreatedAt:  t.CreatedAt,
		ExpiresAt:  t.ExpiresAt,
		LastUsedAt: t.LastUsedAt,
	}
}

func tracedOf(t keys.Traced) contract.Traced {
	out := contract.Traced{Kind: contract.TracedKind(t.Kind), Name: t.Name, Matched: t.Matched}
	if t.Key != nil {
		out.Key, out.Logins = new(keyOf(*t.Key)), new(each(t.Logins, openingOf))
	}
	if t.Stranger != nil {
		out.Stranger = new(strangerOf(*t.Stranger))
	}
	if f := t.Former; f != nil {
		out.Former = &contract.FormerLine{Path: f.Path, Comment: f.Comment, SeenAt: f.SeenAt, GoneBy: f.GoneBy}
		out.GoneAt = f.GoneAt
	}
	if h := t.HostKey; h != nil {
		out.PinnedAt, out.GoneAt, out.ReplacedAt = &h.PinnedAt, h.GoneAt, h.ReplacedAt
	}
	if s := t.Setting; s != nil {
		out.ReadFrom, out.ReadTo, out.Over = &s.Since, &s.ReadAt, optional(s.Former)
	}
	return out
}

func listLineOf(l keys.ListLine) contract.ListLine {
	if l.Refused != nil {
		return contract.ListLine{Line: l.Line, Refused: optional(l.Refused.Problem)}
	}
	return contract.ListLine{
		Line:      l.Line,
		Name:      optional(l.Name),
		PublicKey: optional(l.Public.Line()),
		Sha256:    optional(keypair.FormatSHA256(l.SHA256())),
		Type:      optional(l.Type), Bits: optional(l.Bits), KnownAs: optional(l.KnownAs),
	}
}
