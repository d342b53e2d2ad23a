package charter

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/text"
)

// File is one file, by its path below the place at which the charter is, with / between.
type File struct {
	Path    string
	Content []byte
}

// What a charter may have at most, in all of its files.
const (
	MostBytes = 4 << 20
	MostFiles = 1000
	// mostMarks is how many line ends, commas and colons it may have, which bounds the memory that reading takes.
	mostMarks = 600_000
	mostFlaws = 100
	// mostText is how many bytes a note, a reason or a purpose has.
	mostText = 1000
)

// Declares reports whether a file by its name declares something, so that it is not a public key beside one that does.
func Declares(file string) bool {
	switch strings.ToLower(path.Ext(file)) {
	case ".yaml", ".yml", ".json":
		return true
	}
	return false
}

// Read reads the files of one charter: those that declare, and the public keys that they name. What it returns is of
// use only where there is no flaw.
func Read(files []File) (Charter, []Flaw) {
	r := &reader{beside: map[string][]byte{}, seen: map[string]Place{}}
	if flaw := tooMuch(files); flaw != nil {
		return Charter{}, []Flaw{*flaw}
	}
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	for n, f := range files {
		if flaw := unfit(f); flaw != nil {
			return Charter{}, []Flaw{*flaw}
		}
		if n > 0 && files[n-1].Path == f.Path {
			return Charter{}, []Flaw{{Place{f.Path, 1, 1}, "twice", "the file is there twice", "Give it once"}}
		}
	}
	for _, f := range files {
		if !Declares(f.Path) {
			r.beside[f.Path] = f.Content
		}
	}
	some := false
	for _, f := range files {
		if Declares(f.Path) {
			some = true
			r.file(f)
		}
	}
	switch {
	case !some:
		r.flaw(
			Place{File: ".", Line: 1, Column: 1},
			"no-charter",
			"no file of a charter was given",
			"Give a .yaml or .json file",
		)
	case r.out.Name == "" && len(r.flaws) == 0:
		r.flaw(
			Place{File: files[0].Path, Line: 1, Column: 1}, "no-name", "the charter has no name",
			"Say it in one of its files, charter: NAME",
		)
	}
	if len(r.flaws) == 0 {
		r.flaws = contradictions(r.out)
	}
	return r.out, r.flaws
}

// tooMuch refuses what is larger than a charter may be, before it is read.
func tooMuch(files []File) *Flaw {
	bytesIn, marks := 0, 0
	for _, f := range files {
		bytesIn += len(f.Content)
	}
	if len(files) > MostFiles || bytesIn > MostBytes {
		return &Flaw{
			Place{".", 1, 1}, "too-large",
			fmt.Sprintf(
				"%d files with %d bytes; a charter has at most %d files with %d bytes",
				len(files),
				bytesIn,
				MostFiles,
				MostBytes,
			),
			"Make several charters of it",
		}
	}
	for _, f := range files {
		for _, mark := range []string{"\n", ",", ":"} {
			marks += bytes.Count(f.Content, []byte(mark))
		}
		if marks > mostMarks {
			return &Flaw{
				Place{f.Path, 1, 1}, "too-large",
				fmt.Sprintf("it has more than %d values, with the files before it", mostMarks), "Make several charters of it",
			}
		}
	}
	return nil
}

// unfit refuses a file whose path leads elsewhere or cannot be shown, or that is no text.
func unfit(f File) *Flaw {
	at := Place{"." + strconv.Quote(text.Line(f.Path, text.MaxLine)), 1, 1}
	switch {
	case f.Path == "" || len(f.Path) > mostText || f.Path != text.Plain(f.Path) || strings.Contains(f.Path, "\\") ||
		path.IsAbs(f.Path) || path.Clean(f.Path) != f.Path || strings.HasPrefix(f.Path, ".."):
		return &Flaw{at, "bad-path", "its path does not lead to a file below the charter's folder", "Write folder/file.yaml"}
	case !utf8.Valid(f.Content) || bytes.ContainsRune(f.Content, 0):
		at.File = f.Path
		return &Flaw{at, "no-text", "it is no text in UTF-8", "Save it as UTF-8"}
	}
	return nil
}

type reader struct {
	out    Charter
	flaws  []Flaw
	path   string            // that is being read
	beside map[string][]byte // public keys by path
	seen   map[string]Place  // what was declared, by its kind and name
	// the defaults of the file that is being read
	launch Launch
	access Access
}

func (r *reader) flaw(at Place, code, what, remedy string) {
	if len(r.flaws) < mostFlaws {
		r.flaws = append(r.flaws, Flaw{at, code, what, remedy})
	}
}

func (r *reader) at(n *yaml.Node) Place { return Place{r.path, max(n.Line, 1), max(n.Column, 1)} }

func (r *reader) bad(n *yaml.Node, code, what, remedy string) { r.flaw(r.at(n), code, what, remedy) }

// yamlLine finds the line in an error of the YAML library, which has no other form of it.
var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`)

func (r *reader) file(f File) {
	r.path, r.launch, r.access = f.Path, Launch{}, Access{}
	if keypair.HoldsPrivate(string(f.Content)) {
		r.flaw(
			Place{f.Path, privateLine(f.Content), 1}, "private-key", "there is a private key in it",
			"Take it out, and treat it as compromised: a charter has public keys alone",
		)
		return
	}
	decoder := yaml.NewDecoder(bytes.NewReader(f.Content))
	var document, more yaml.Node
	err := decoder.Decode(&document)
	if errors.Is(err, io.EOF) { // nothing in it
		return
	}
	if err == nil && !errors.Is(decoder.Decode(&more), io.EOF) {
		r.flaw(
			Place{f.Path, max(more.Line, 1), 1},
			"two-documents",
			"there is a second document in it",
			"Make a file of its own of it",
		)
		return
	}
	if err != nil {
		line, what := 1, err.Error()
		if m := yamlLine.FindStringSubmatch(what); m != nil {
			what = m[2]
			if n, err := strconv.Atoi(m[1]); err == nil {
				line = n
			}
		}
		remedy := "Correct that line"
		if bytes.Contains(f.Content, []byte("\n\t")) {
			remedy = "Indent with blanks; tabs are no indentation in YAML"
		}
		r.flaw(Place{f.Path, line, 1}, "no-yaml", "it is no YAML: "+text.Line(what, text.MaxLine), remedy)
		return
	}
	if top := document.Content[0]; top.Tag != "!!null" {
		r.top(top)
	}
}

func privateLine(content []byte) int {
	for n, line := range strings.Split(string(content), "\n") {
		if keypair.HoldsPrivate(line) {
			return n + 1
		}
	}
	return 1
}

func (r *reader) top(n *yaml.Node) {
	file := "the file"
	// Defaults are of the file, wherever they are in it.
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "defaults" {
				r.defaults(n.Content[i+1])
			}
		}
	}
	r.mapping(n, file, map[string]field{
		"charter": func(n *yaml.Node) {
			var called string
			r.name(&called, "the charter's name")(n)
			if r.out.Name != "" && called != r.out.Name {
				r.bad(
					n, "two-names", fmt.Sprintf("the charter is called %s here and %s before", quoted(called), quoted(r.out.Name)),
					"The files that are given together make one charter",
				)
			}
			r.out.Name = called
		},
		"note":     r.text(&r.out.Note, "note"),
		"defaults": func(*yaml.Node) {},
		"people": func(n *yaml.Node) {
			var list []Named
			r.names(&list, "people")(n)
			r.out.People = append(r.out.People, list...)
		},
		"teams": func(n *yaml.Node) {
			var list []Named
			r.names(&list, "teams")(n)
			r.out.Teams = append(r.out.Teams, list...)
		},
		"keys":      func(n *yaml.Node) { r.each(n, "keys", r.key) },
		"instances": func(n *yaml.Node) { r.each(n, "instances", r.instance) },
		"access": func(n *yaml.Node) {
			if !empty(n) && r.is(n, yaml.SequenceNode, "access", "a list") {
				for _, one := range n.Content {
					r.entry(one)
				}
			}
		},
	})
}

func (r *reader) defaults(n *yaml.Node) {
	r.mapping(n, "defaults", map[string]field{
		"launch": r.launching(&r.launch, "defaults of launch"),
		"access": func(n *yaml.Node) {
			r.mapping(n, "defaults of access", map[string]field{
				"until":    r.moment(&r.access.Until, "until"),
				"why":      r.text(&r.access.Why, "why"),
				"limits":   r.limits(&r.access.Limits),
				"rotation": r.name(&r.access.Rotation, "rotation"),
			})
		},
	})
}

// once tells of what is declared twice, also in two files.
func (r *reader) once(kind string, n *yaml.Node) {
	id := kind + " " + n.Value
	if first, twice := r.seen[id]; twice {
		r.bad(
			n,
			"twice",
			fmt.Sprintf("the %s %s is declared a second time, first at %s", kind, quoted(n.Value), first),
			"Remove one of the two",
		)
	}
	r.seen[id] = r.at(n)
}

func (r *reader) key(called, n *yaml.Node) {
	r.fit(called, called.Value)
	r.once("key", called)
	k := Key{Name: called.Value, Place: r.at(called)}
	var line, file string
	of := "the key " + quoted(called.Value)
	r.mapping(n, of, map[string]field{
		"public-key": func(n *yaml.Node) {
			if r.is(n, yaml.ScalarNode, "public-key", "text") {
				line = n.Value
				r.public(n, &k.Public, line)
			}
		},
		"file": func(n *yaml.Node) {
			if r.text(&file, "file")(n); file != "" {
				r.keyFile(n, &k.Public, file)
			}
		},
		"holder":  r.name(&k.Holder, "holder"),
		"purpose": r.text(&k.Purpose, "purpose"),
		"labels":  r.labels(&k.Labels, "labels"),
		"note":    r.text(&k.Note, "note"),
	})
	if (line == "") == (file == "") {
		r.bad(
			called,
			"no-public-key",
			of+" has not one of public-key and file",
			"Give its public key, or the file beside that has it",
		)
	}
	r.out.Keys = append(r.out.Keys, k)
}

func (r *reader) keyFile(n *yaml.Node, into *keypair.Public, file string) {
	at, ok := Beside(r.path, file)
	if !ok {
		r.bad(n, "bad-path", quoted(file)+" is not below the folder of this file", "Put the public key beside it")
		return
	}
	content, there := r.beside[at]
	if !there {
		r.bad(n, "no-file", "there is no file "+quoted(at), "Its path counts from the folder of this file")
		return
	}
	r.public(n, into, string(content))
}

// Beside returns the path of a file that is named in another one; ok is false where it leads out of that one's folder.
func Beside(in, file string) (at string, ok bool) {
	if path.IsAbs(file) || strings.ContainsAny(file, "\\\x00") {
		return "", false
	}
	clean := path.Clean(file)
	if clean == ".." || strings.HasPrefix(clean, "../") || clean == "." {
		return "", false
	}
	return path.Join(path.Dir(in), clean), true
}

func (r *reader) public(n *yaml.Node, into *keypair.Public, of string) {
	found, err := keypair.ReadPublic(of)
	if err != nil {
		code, remedy := "bad-key", ""
		var refusal *keypair.Refusal
		if errors.As(err, &refusal) {
			code, remedy = string(refusal.Code), refusal.Remedy
		}
		what := err.Error()
		if refusal != nil {
			what = refusal.Problem
		}
		r.bad(n, code, what, remedy)
		return
	}
	*into = found.Public
}

func (r *reader) launching(l *Launch, of string) field {
	return func(n *yaml.Node) {
		r.mapping(n, of, map[string]field{
			"image":          r.text(&l.Image, "image"),
			"size":           r.text(&l.Size, "size"),
			"zone":           r.text(&l.Zone, "zone"),
			"cloud":          r.name(&l.Cloud, "cloud"),
			"static-address": r.truth(&l.StaticAddress, "static-address"),
			"keys":           r.names(&l.Keys, "keys"),
		})
	}
}

func (r *reader) instance(called, n *yaml.Node) {
	r.fit(called, called.Value)
	r.once("instance", called)
	i := Instance{Name: called.Value, Place: r.at(called)}
	of := "the instance " + quoted(called.Value)
	var ways []string
	one := func(way string, read field) field {
		return func(n *yaml.Node) {
			if ways = append(ways, way); len(ways) > 1 {
				r.bad(n, "two-ways", fmt.Sprintf("%s has %s and %s", of, ways[0], way), "Keep one of them")
			}
			read(n)
		}
	}
	if !empty(n) {
		r.mapping(n, of, map[string]field{
			"labels": r.labels(&i.Labels, "labels"),
			"note":   r.text(&i.Note, "note"),
			"launch": one("launch", func(n *yaml.Node) {
				l := r.launch
				i.Launch = &l
				r.launching(i.Launch, "launch")(n)
				if l.Image == "" || l.Size == "" {
					r.bad(n, "missing", "a launch needs an image and a size", "Give them here, or in defaults")
				}
			}),
			"adopt": one("adopt", func(n *yaml.Node) {
				i.Adopt = &Adopt{Port: 22}
				r.mapping(n, "adopt", map[string]field{
					"address":  r.text(&i.Adopt.Address, "address"),
					"port":     r.number(&i.Adopt.Port, "port", 1, 65535),
					"login":    r.text(&i.Adopt.Login, "login"),
					"host-key": r.text(&i.Adopt.HostKey, "host-key"),
					"via":      r.name(&i.Adopt.Via, "via"),
				})
				if i.Adopt.Address == "" || name.CheckUser(i.Adopt.Login) != nil {
					r.bad(n, "missing", "an adoption needs an address and a login, which is an OS user", "")
				}
				r.hostKey(n, i.Adopt.HostKey)
			}),
			"bring-in": one("bring-in", func(n *yaml.Node) {
				i.BringIn = &BringIn{Called: i.Name}
				r.mapping(n, "bring-in", map[string]field{
					"cloud":    r.name(&i.BringIn.Cloud, "cloud"),
					"called":   r.text(&i.BringIn.Called, "called"),
					"login":    r.text(&i.BringIn.Login, "login"),
					"host-key": r.text(&i.BringIn.HostKey, "host-key"),
				})
				if i.BringIn.Cloud == "" {
					r.bad(n, "missing", "it needs the cloud that it runs in", "Add cloud: NAME")
				}
				r.hostKey(n, i.BringIn.HostKey)
			}),
		})
	}
	r.out.Instances = append(r.out.Instances, i)
}

func (r *reader) hostKey(n *yaml.Node, s string) {
	if d, ok := keypair.ReadFingerprint(s); s != "" && (!ok || d.Kind != "sha256") {
		r.bad(n, "bad-digest", quoted(s)+" is no SHA-256 fingerprint", "ssh-keygen -lf shows it")
	}
}

func (r *reader) entry(n *yaml.Node) {
	a := r.access
	a.Place = r.at(n)
	mayBe := ""
	r.mapping(n, "an entry of access", map[string]field{
		"who": func(n *yaml.Node) {
			r.mapping(n, "who", map[string]field{
				"keys":    r.names(&a.Keys, "keys"),
				"holders": r.names(&a.Holders, "holders"),
				"teams":   r.names(&a.Teams, "teams"),
			})
		},
		"logins":   r.names(&a.Logins, "logins"),
		"labels":   r.labels(&a.Labels, "labels"),
		"until":    r.moment(&a.Until, "until"),
		"why":      r.text(&a.Why, "why"),
		"limits":   r.limits(&a.Limits),
		"rotation": r.name(&a.Rotation, "rotation"),
		"may-be": func(n *yaml.Node) {
			r.text(&mayBe, "may-be")(n)
			if a.MayBe = reach.State(mayBe); a.MayBe != reach.Thin {
				r.bad(n, "bad-may-be", "a login may be thin, and nothing worse", "Write may-be: thin")
			}
		},
		"note": r.text(&a.Note, "note"),
	})
	switch {
	case len(a.Keys)+len(a.Holders)+len(a.Teams) == 0 || len(a.Logins) == 0:
		r.bad(
			n,
			"missing",
			"an entry of access needs who and logins",
			"who has keys, holders or teams; a login is user@instance",
		)
	case a.MayBe != "" && a.Why == "":
		r.bad(n, "no-reason", "an entry with may-be needs a reason", "Say it with why")
	}
	for _, l := range a.Logins {
		if user, host, ok := strings.Cut(l.Name, "@"); !ok || user == "" || host == "" {
			r.flaw(l.Place, "bad-login", quoted(l.Name)+" is no login", "Write user@instance; * means some text")
		} else if _, err := path.Match(l.Name, ""); err != nil || strings.ContainsAny(l.Name, "/[\\") {
			r.flaw(l.Place, "bad-login", quoted(l.Name)+" is no login", "* means some text and ? one character")
		}
	}
	r.out.Access = append(r.out.Access, a)
}

// limits reads the options of lines.
func (r *reader) limits(into *string) field {
	return func(n *yaml.Node) {
		var text string
		r.text(&text, "limits")(n)
		limits, err := authorizedkeys.ReadLimits(text)
		if err != nil {
			r.bad(n, "bad-limits", err.Error(), `Write them as sshd(8) does before a key: from="192.0.2.0/24",no-pty`)
		}
		*into = limits
	}
}

// Names returns the paths of the public keys that a file names, as far as it can be read; Read says what cannot.
func Names(f File) (paths []string) {
	var document yaml.Node
	if tooMuch([]File{f}) != nil || yaml.Unmarshal(f.Content, &document) != nil || len(document.Content) == 0 {
		return nil
	}
	for _, k := range valuesOf(document.Content[0], "keys") {
		for i := 1; i < len(k.Content); i += 2 {
			for _, file := range valuesOf(k.Content[i], "file") {
				if at, ok := Beside(f.Path, file.Value); ok && file.Value != "" {
					paths = append(paths, at)
				}
			}
		}
	}
	return paths
}

// valuesOf returns the values of a name in a mapping.
func valuesOf(n *yaml.Node, name string) (out []*yaml.Node) {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			out = append(out, n.Content[i+1])
		}
	}
	return out
}
