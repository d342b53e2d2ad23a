package keypair

import (
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/md5"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/wire"
)

// PublicFile is what a text with one public key holds.
type PublicFile struct {
	Public
	Format Format
	// Options are those before a key in an authorized_keys file; they belong to
	// a login and not to the key.
	Options string
	// Notes say what was repaired or left out.
	Notes []Note
}

// MaxListBytes is the greatest text taken as a list of keys, in bytes.
const MaxListBytes = 1 << 20

func checkPublicText(text string, limit int) *Refusal {
	if HoldsPrivate(text) {
		return &Refusal{
			Code:    CodePrivate,
			Problem: "this is a private key; only the public key belongs here, and nothing of it was kept",
			Remedy: "If it was sent over a network or pasted into a page, treat it as exposed and make a new pair (plumlatch " +
				"key new NAME). To get the public key on your own machine: plumlatch key public FILE",
		}
	}
	if len(text) > limit {
		return &Refusal{
			Code:    CodeTooLarge,
			Problem: fmt.Sprintf("the text has %d bytes; %d is the limit", len(text), limit),
			Remedy:  "Give the one line of the .pub file",
		}
	}
	return nil
}

// ReadPublic reads one public key in any of its forms: one line, one line with
// options, RFC 4716, PEM (SPKI and PKCS#1) and JWK. What can be repaired without
// doubt is repaired and said in the notes. The error is a *Refusal.
func ReadPublic(text string) (PublicFile, error) {
	if r := checkPublicText(text, MaxTextBytes); r != nil {
		return PublicFile{}, r
	}
	text, unpacked := unpack(text)
	if len(unpacked) > 0 { // what was packed may be a private key as well
		if r := checkPublicText(text, MaxTextBytes); r != nil {
			return PublicFile{}, r
		}
	}
	lines, notes, refused := repair(text)
	if refused != nil {
		return PublicFile{}, refused
	}
	file, err := readLines(lines)
	file.Notes = slices.Concat(unpacked, notes, file.Notes)
	return file, err
}

func readLines(lines []textLine) (PublicFile, error) {
	if len(lines) == 0 {
		return PublicFile{}, &Refusal{
			Code:    CodeEmpty,
			Problem: "there is no key in the text",
			Remedy:  "Give the one line of the .pub file: it begins with a type such as ssh-ed25519",
		}
	}
	lines, notes := repairArmour(lines)
	file, err := readForm(lines)
	file.Notes = append(notes, file.Notes...)
	if err == nil && len(file.Public.Blob) == 0 { // no reader may say that it found a key and give none
		err = noKey(lines[0].number)
	}
	return file, err
}

// noKey refuses a text that looks like a key's and holds none.
func noKey(line int) error {
	return &Refusal{
		Code:    CodeBadBlob,
		Line:    line,
		Column:  1,
		Problem: "the text begins like a key's armour, but has no public key",
		Remedy:  "Copy the whole file, from its BEGIN line to its END line",
	}
}

func readForm(lines []textLine) (PublicFile, error) {
	first := lines[0].text
	switch {
	case strings.Contains(first, "BEGIN SSH2 PUBLIC KEY"):
		return readRFC4716(lines)
	case strings.Contains(first, "BEGIN") && strings.Contains(first, "PUBLIC KEY"):
		return readPublicPEM(lines)
	case strings.HasPrefix(first, "{"):
		return readJWK(lines)
	case strings.Contains(first, "BEGIN"):
		if r := otherForm(lines[0]); r != nil {
			return PublicFile{}, r
		}
		return PublicFile{}, noKey(lines[0].number)
	}
	if len(lines) == 1 {
		return readKeyLine(lines[0])
	}
	return readWrapped(lines)
}

// readKeyLine reads one line, with or without options before the key.
func readKeyLine(l textLine) (PublicFile, error) {
	file := PublicFile{Format: OneLine}
	if at := keyAfterOptions(l.text); at > 0 {
		file.Options = strings.TrimSpace(l.text[:at])
		l.column += len([]rune(l.text[:at]))
		l.text = l.text[at:]
		file.Notes = []Note{
			{Line: l.number, Text: "the options before the key were left out: they belong to a login, not to the key"},
		}
	}
	if typ, rest, _ := strings.Cut(l.text, " "); knownType(typ) && strings.HasPrefix(rest, typ+" ") {
		l.text, l.column = rest, l.column+len(typ)+1
		file.Notes = append(file.Notes, Note{Line: l.number, Text: "the key type stood there twice"})
	}
	var err error
	if file.Public, err = readOne(l); err == nil {
		return file, nil
	}
	// A blank in the key data can only come from a line break that was joined.
	var r *Refusal
	if errors.As(err, &r) && r.Code == CodeWrapped {
		fields := strings.Fields(l.text)
		for n := len(fields); n > 2; n-- {
			joined := fields[0] + " " + strings.Join(fields[1:n], "")
			if p, again := readOne(textLine{number: 1, column: 1, text: joined}); again == nil {
				p.Comment = strings.Join(fields[n:], " ")
				file.Public = p
				file.Notes = append(
					file.Notes,
					Note{Line: l.number, Text: fmt.Sprintf("blanks within the key data were taken out (%d pieces)", n-1)},
				)
				return file, nil
			}
		}
	}
	return file, err
}

// keyAfterOptions returns where the key begins in a line that has options
// before it, and 0 in any other. Blanks within double quotes separate nothing.
func keyAfterOptions(line string) int {
	first, _, _ := strings.Cut(line, " ")
	if knownType(first) {
		return 0
	}
	quoted := false
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '\\' && quoted:
			i++
		case line[i] == '"':
			quoted = !quoted
		case (line[i] == ' ' || line[i] == '\t') && !quoted:
			rest := strings.TrimLeft(line[i:], " \t")
			typ, _, _ := strings.Cut(rest, " ")
			if knownType(typ) {
				return len(line) - len(rest)
			}
			return 0
		}
	}
	return 0
}

// readWrapped joins a key that was wrapped over lines, if that leaves no doubt.
func readWrapped(lines []textLine) (PublicFile, error) {
	joined := lines[0].text
	for _, l := range lines[1:] {
		if knownType(strings.Fields(l.text)[0]) || keyAfterOptions(l.text) > 0 {
			return PublicFile{}, &Refusal{
				Code:    CodeSeveral,
				Line:    l.number,
				Column:  l.column,
				Problem: fmt.Sprintf("a second key begins here; the text has %d lines", len(lines)),
				Remedy:  "Import a list with plumlatch key import -list FILE, or one key at a time",
			}
		}
		joined += l.text
	}
	if _, err := readKeyLine(lines[0]); err == nil {
		return PublicFile{}, &Refusal{
			Code:    CodeSeveral,
			Line:    lines[1].number,
			Column:  lines[1].column,
			Problem: "the key is whole without this line, so it is not clear what the line is",
			Remedy:  "Give only the one line of the .pub file",
		}
	}
	file, err := readKeyLine(textLine{number: lines[0].number, column: lines[0].column, text: joined})
	if err != nil { // as mail wraps it: at the blanks too, and with the comment on a line of its own
		words := make([]string, len(lines))
		for n, l := range lines {
			words[n] = l.text
		}
		file, err = readKeyLine(
			textLine{number: lines[0].number, column: lines[0].column, text: strings.Join(words, " ")},
		)
	}
	if err != nil {
		return PublicFile{}, refuseLines(lines)
	}
	file.Notes = append(
		file.Notes,
		Note{Line: lines[1].number, Text: fmt.Sprintf("the key was wrapped over %d lines and was joined", len(lines))},
	)
	return file, nil
}

// readRFC4716 reads the armoured form: headers, then base64.
func readRFC4716(lines []textLine) (PublicFile, error) {
	file := PublicFile{Format: RFC4716}
	end := slices.IndexFunc(lines, func(l textLine) bool { return strings.Contains(l.text, "END SSH2 PUBLIC KEY") })
	if end < 0 {
		last := lines[len(lines)-1]
		return file, &Refusal{
			Code:    CodeCutShort,
			Line:    last.number + 1,
			Column:  1,
			Problem: "the line ---- END SSH2 PUBLIC KEY ---- is missing",
			Remedy:  "Copy the whole file, from its BEGIN line to its END line",
		}
	}
	if end < len(lines)-1 {
		return file, &Refusal{
			Code:    CodeSeveral,
			Line:    lines[end+1].number,
			Column:  1,
			Problem: "there is more text after the key's END line",
			Remedy:  "Give one key at a time",
		}
	}
	body := ""
	comment := ""
	for i := 1; i < end; i++ {
		text := lines[i].text
		if !strings.Contains(text, ":") || body != "" {
			body += text
			continue
		}
		for strings.HasSuffix(text, `\`) && i+1 < end { // a header continues after a backslash
			i++
			text = strings.TrimSuffix(text, `\`) + lines[i].text
		}
		for i+1 < end && openQuote(text) { // mail has wrapped it at a blank
			i++
			text += " " + lines[i].text
			file.Notes = append(
				file.Notes, Note{Line: lines[i].number, Text: "a header that was wrapped over lines was joined"},
			)
		}
		if name, value, _ := strings.Cut(text, ":"); strings.EqualFold(name, "Comment") {
			comment = strings.TrimSpace(value)
			if len(comment) > 1 && strings.HasPrefix(comment, `"`) && strings.HasSuffix(comment, `"`) {
				comment = comment[1 : len(comment)-1]
			}
		}
	}
	blob, err := base64.StdEncoding.DecodeString(body)
	if err != nil {
		return file, &Refusal{
			Code:    CodeBadBlob,
			Line:    lines[1].number,
			Column:  1,
			Problem: "the lines between BEGIN and END are not whole base64",
			Remedy:  "Copy the whole file again from where it was made",
		}
	}
	if file.Public, err = ReadBlob(blob); err != nil {
		return file, blobRefusal(err, lines[0].number)
	}
	file.Comment = comment
	return file, CheckComment(comment)
}

// openQuote reports whether the value of a header begins with a quote that does not end in it.
func openQuote(header string) bool {
	_, value, _ := strings.Cut(header, ":")
	value = strings.TrimSpace(value)
	return strings.HasPrefix(value, `"`) && (len(value) == 1 || !strings.HasSuffix(value, `"`))
}

func blobRefusal(err error, line int) error {
	var r *Refusal
	if errors.As(err, &r) {
		r.Line, r.Column = line, 1
		return r
	}
	code := CodeBadBlob
	if errors.Is(err, wire.ErrShort) {
		code = CodeCutShort
	}
	return &Refusal{
		Code:    code,
		Line:    line,
		Column:  1,
		Problem: "the key data is damaged: " + err.Error(),
		Remedy:  "Copy the whole file again from where it was made",
	}
}

func readPublicPEM(lines []textLine) (PublicFile, error) {
	file := PublicFile{Format: SPKI}
	text := ""
	for _, l := range lines {
		text += l.text + "\n"
	}
	block, rest := pem.Decode([]byte(text))
	if block == nil {
		return file, &Refusal{
			Code:    CodeCutShort,
			Line:    lines[0].number,
			Column:  1,
			Problem: "the PEM armour is damaged: a line between BEGIN and END, or the END line itself",
			Remedy:  "Copy the whole file, from its BEGIN line to its END line",
		}
	}
	if strings.TrimSpace(string(rest)) != "" {
		return file, &Refusal{
			Code:    CodeSeveral,
			Line:    lines[len(lines)-1].number,
			Column:  1,
			Problem: "there is more text after the key's END line",
			Remedy:  "Give one key at a time",
		}
	}
	var key any
	var err error
	switch block.Type {
	case "PUBLIC KEY":
		key, err = x509.ParsePKIXPublicKey(block.Bytes)
	case "RSA PUBLIC KEY":
		key, err = x509.ParsePKCS1PublicKey(block.Bytes)
	default:
		return file, noKey(lines[0].number)
	}
	if err != nil {
		return file, &Refusal{
			Code:    CodeBadBlob,
			Line:    lines[0].number,
			Column:  1,
			Problem: "the key in the PEM armour is damaged, or of a type that SSH does not know",
			Remedy:  "Copy the whole file again from where it was made",
		}
	}
	file.Public, err = fromStandard(key)
	return file, err
}

func fromStandard(key any) (Public, error) {
	wire, err := ssh.NewPublicKey(key)
	if err != nil {
		return Public{}, &Refusal{
			Code:    CodeUnknownType,
			Problem: "the key is of a type or on a curve that SSH does not know",
			Remedy:  "SSH takes ed25519, rsa, and ecdsa on P-256, P-384 and P-521",
		}
	}
	p, err := ReadBlob(wire.Marshal())
	if err != nil {
		return p, blobRefusal(err, 1)
	}
	return p, nil
}

func readJWK(lines []textLine) (PublicFile, error) {
	file := PublicFile{Format: JWK}
	text := ""
	for _, l := range lines {
		text += l.text + "\n"
	}
	bad := func(problem string) (PublicFile, error) {
		return file, &Refusal{
			Code:    CodeBadBlob,
			Line:    lines[0].number,
			Column:  lines[0].column,
			Problem: problem,
			Remedy:  "Give one public JSON Web Key (RFC 7517) of the type OKP, EC or RSA",
		}
	}
	var j jwkKey
	if err := json.Unmarshal([]byte(text), &j); err != nil {
		return bad("this is not a valid JSON object")
	}
	part := func(s string) []byte {
		b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
		if err != nil {
			return nil
		}
		return b
	}
	var key any
	switch j.Type {
	case "OKP":
		if x := part(j.X); j.Curve == "Ed25519" && len(x) == ed25519.PublicKeySize {
			key = ed25519.PublicKey(x)
		}
	case "EC":
		name, ok := jwkCurves[j.Curve]
		if !ok {
			break
		}
		c := ellipticCurves[name]
		size := (c.Params().BitSize + 7) / 8
		x, y := part(j.X), part(j.Y)
		if len(x) > size || len(y) > size {
			break
		}
		point := append([]byte{4}, new(big.Int).SetBytes(x).FillBytes(make([]byte, size))...)
		point = append(point, new(big.Int).SetBytes(y).FillBytes(make([]byte, size))...)
		if on, err := ecdh.Curve.NewPublicKey(curves[name], point); err == nil && on != nil {
			if k, err := ecdsa.ParseUncompressedPublicKey(c, point); err == nil {
				key = k
			}
		}
	case "RSA":
		n, e := new(big.Int).SetBytes(part(j.N)), new(big.Int).SetBytes(part(j.E))
		if e.IsInt64() && e.Int64() > 2 && e.Int64() < 1<<31 && n.BitLen() <= maxRSABits && n.Sign() > 0 {
			key = &rsa.PublicKey{N: n, E: int(e.Int64())}
		}
	}
	if key == nil {
		return bad(fmt.Sprintf("the JSON Web Key (kty %q) is not whole, or not of a type that SSH knows", printable(j.Type)))
	}
	var err error
	file.Public, err = fromStandard(key)
	return file, err
}

// Listed is one line of a list of keys: a key, or why it is none.
type Listed struct {
	PublicFile
	Line    int
	Refused *Refusal
}

// ReadList reads a text with one key to a line, such as an authorized_keys
// file. Blank lines and comments are passed over. A line that is no key is
// returned with its refusal and keeps none of the others from being read.
func ReadList(text string) ([]Listed, []Note, error) {
	if r := checkPublicText(text, MaxListBytes); r != nil {
		return nil, nil, r
	}
	lines, notes, refused := repair(text)
	if refused != nil {
		return nil, nil, refused
	}
	out := make([]Listed, len(lines))
	for i, l := range lines {
		file, err := readKeyLine(l)
		out[i] = Listed{PublicFile: file, Line: l.number}
		errors.As(err, &out[i].Refused)
	}
	return out, notes, nil
}

// RefuseTwice refuses every key of a list that is in an earlier line already.
func RefuseTwice(list []Listed) {
	first := map[string]int{}
	for n := range list {
		l := &list[n]
		if l.Refused != nil {
			continue
		}
		if earlier, twice := first[string(l.Blob)]; twice {
			l.Refused = &Refusal{
				Code:    CodeSeveral,
				Line:    l.Line,
				Column:  1,
				Problem: fmt.Sprintf("the same key is in line %d", earlier),
			}
			continue
		}
		first[string(l.Blob)] = l.Line
	}
}

// SPKIMD5 returns the MD5 digest of the key's SubjectPublicKeyInfo in DER: 16
// bytes, as some clouds show for imported keys; nil for hardware-backed keys.
func (p Public) SPKIMD5() []byte {
	der, err := p.SPKIDER()
	if err != nil {
		return nil
	}
	sum := md5.Sum(der)
	return sum[:]
}

// SSHFP returns the key's DNS record data (RFC 4255, with SHA-256 of RFC 6594),
// such as "4 2 0123…"; "" for hardware-backed keys, which have no number.
func (p Public) SSHFP() string {
	number := map[string]int{RSA: 1, ECDSA: 3, Ed25519: 4}[p.Type]
	if number == 0 {
		return ""
	}
	return fmt.Sprintf("%d 2 %x", number, p.SHA256())
}
