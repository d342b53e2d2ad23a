package authorizedkeys

import (
	"bytes"
	"crypto/rand"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/core/keypair"
)

func makeKey(t testing.TB, comment string) keypair.Public {
	t.Helper()
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, comment)
	if err != nil {
		t.Fatal(err)
	}
	return pair.Public
}

func TestEditKeepsForeignLinesByteForByte(t *testing.T) {
	ours, other := makeKey(t, "ours"), makeKey(t, "other hand")
	foreign := []string{
		"# the hides  \r\n", "\n", "   \t\n",
		`from="10.0.0.0/8,!10.1.*",command="echo \"hi, there\"",no-pty ` + other.Line() + "   \n",
		"\tssh-puffin256 AAAADXNzaC1wdWZmaW4yNTY= bird\n",
		"not a key at all \xff\xfe\n",
		"cert-authority,principals=\"oona\" " + other.Line() + "\r\n",
	}
	for _, last := range []string{"", "# no line end"} {
		before := strings.Join(foreign, "") + last
		file := Parse([]byte(before))
		if !bytes.Equal(file.Bytes(), []byte(before)) {
			t.Fatalf("parsed and rendered it is\n%q, was\n%q", file.Bytes(), before)
		}
		added := file.Add(ours.Line())
		want := before
		if last != "" {
			want += "\r\n"
		}
		want += ours.Line() + "\r\n"
		if string(added.Bytes()) != want {
			t.Errorf("with a line added it is\n%q, want\n%q", added.Bytes(), want)
		}
		if len(added.Find(ours.Blob)) != 1 || len(file.Find(ours.Blob)) != 0 {
			t.Error("the key is not found where it was added, or was added to the original")
		}
		removed := string(taken(added, ours.Blob).Bytes())
		if strings.TrimSuffix(removed, "\r\n") != strings.TrimSuffix(before, "\r\n") {
			t.Errorf("added and removed it is\n%q, was\n%q", removed, before)
		}
	}
}

func TestLinesAreReadAsSSHDReadsThem(t *testing.T) {
	k := makeKey(t, "ines@laptop")
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for text, c := range map[string]struct {
		kind   Kind
		limits []string
		opens  bool
	}{
		k.Line():                                               {Key, nil, true},
		"  " + k.Line() + "  ":                                 {Key, nil, true},
		"restrict,pty " + k.Line():                             {Key, nil, true},
		`FROM="10.0.0.1" ` + k.Line():                          {Key, []string{"only from 10.0.0.1"}, true},
		`command="rsync --server, x" ` + k.Line():              {Key, []string{"only the command rsync --server, x"}, false},
		`expiry-time="20261122" ` + k.Line():                   {Key, []string{"expired"}, false},
		`expiry-time="202611231201Z" ` + k.Line():              {Key, []string{"until 23 Nov 2026"}, true},
		`expiry-time="soon" ` + k.Line():                       {Key, []string{"expired"}, false},
		"cert-authority " + k.Line():                           {Key, []string{"a certificate authority, not a key"}, false},
		`environment="A=b c",no-pty	` + k.Line():               {Key, nil, true},
		"ssh-puffin256 AAAADXNzaC1wdWZmaW4yNTY=":               {Key, nil, true},
		"":                                                     {Blank, nil, false},
		" # ssh-ed25519 AAAA":                                  {Comment, nil, false},
		k.Line()[:40]:                                          {Unreadable, nil, false},
		`from="10.0.0.1 ` + k.Line():                           {Unreadable, nil, false},
		`from=10.0.0.1 ` + k.Line():                            {Unreadable, nil, false},
		",no-pty " + k.Line():                                  {Unreadable, nil, false},
		strings.Replace(k.Line(), "ssh-ed25519", "ssh-rsa", 1): {Unreadable, nil, false},
		"hello world":                                          {Unreadable, nil, false},
	} {
		l := Parse([]byte(text + "\n"))[0]
		if l.Kind != c.kind || !slices.Equal(l.Limits(now), c.limits) || l.Opens(now) != c.opens {
			t.Errorf("%q is %s (%s), limits %q, opens %v", text, l.Kind, l.Why, l.Limits(now), l.Opens(now))
		}
		if (l.Kind == Unreadable) != (l.Why != "") {
			t.Errorf("%q: why is %q", text, l.Why)
		}
	}
	l := Parse([]byte(`  from="a b",no-pty   ` + k.Line() + "\r\n"))[0]
	if want := []Option{{"from", "a b"}, {"no-pty", ""}}; !slices.Equal(l.Options, want) || l.Comment != "ines@laptop" {
		t.Errorf("options %q, comment %q", l.Options, l.Comment)
	}
}

func TestDifferencesTellWhichLinesCameAndWent(t *testing.T) {
	a, b, c := makeKey(t, "a").Line(), makeKey(t, "b").Line(), makeKey(t, "c").Line()
	before := Parse([]byte("# keys\n" + a + "\n" + b + "\n" + b + "\n"))
	after := Parse([]byte(b + "\r\n# keys\n" + c + "\n"))
	var got []string
	for _, d := range Differences(before, after) {
		sign := "-"
		if d.Came {
			sign = "+"
		}
		got = append(got, sign+d.Line.Comment)
	}
	if want := []string{"-a", "-b", "+c"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if d := Differences(before, before); d != nil {
		t.Errorf("a file differs from itself: %v", d)
	}
}

func FuzzParse(f *testing.F) {
	k := makeKey(f, "x")
	f.Add([]byte("# c\r\n" + k.Line() + "\nfrom=\"a\\\"b\",no-pty " + k.Line()))
	f.Add([]byte("cert-authority,expiry-time=\"20260101\"\tssh-ed25519 AAAA\n\n\xff"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file := Parse(data)
		if !bytes.Equal(file.Bytes(), data) {
			t.Fatalf("%q is rendered %q", data, file.Bytes())
		}
		now := time.Unix(0, 0)
		for _, l := range file {
			l.Limits(now)
			if l.Kind == Key && (len(l.Blob) == 0 || !strings.Contains(l.Raw, l.Comment)) {
				t.Fatalf("a key of %d bytes with the comment %q is read from %q", len(l.Blob), l.Comment, l.Raw)
			}
		}
		added := file.Add(k.Line())
		if len(added.Find(k.Blob)) != len(file.Find(k.Blob))+1 {
			t.Fatalf("%q: the added line is not found", data)
		}
		again := Parse(added.Bytes())
		if len(again) != len(added) {
			t.Fatalf("%q: %d lines after adding, %d when read again", data, len(added), len(again))
		}
		if rest := taken(added, k.Blob); len(rest.Find(k.Blob)) != 0 ||
			!bytes.Equal(Parse(rest.Bytes()).Bytes(), rest.Bytes()) {
			t.Fatalf("%q: the key is there after its removal", data)
		}
		if len(Differences(file, file)) != 0 {
			t.Fatalf("%q differs from itself", data)
		}
	})
}

// taken is the file without the lines of a key, as an editor would leave it.
func taken(f File, blob []byte) File {
	return slices.DeleteFunc(slices.Clone(f), func(l Line) bool { return l.Kind == Key && bytes.Equal(l.Blob, blob) })
}

// TestAnEndIsSetAndTakenAwayWithoutAnotherChange sets ends in lines of all forms.
func TestAnEndIsSetAndTakenAwayWithoutAnotherChange(t *testing.T) {
	k := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICBxkpHYm8G2kC4bTFuvYsKvIt1Jgx9FLkGaJyzBHt0J"
	end := time.Date(2026, 12, 1, 18, 0, 5, 999, time.FixedZone("", 3600))
	const option = `expiry-time="20261201170005Z"`
	for before, want := range map[string]string{
		k + " oona\n":                        option + " " + k + " oona\n",
		"\t" + k + "\r\n":                    "\t" + option + " " + k + "\r\n",
		`no-pty,from="a, \"b\"" ` + k:        option + `,no-pty,from="a, \"b\"" ` + k,
		`expiry-time="20200101" ` + k:        option + " " + k,
		`no-pty,EXPIRY-TIME="20200101"	` + k: option + ",no-pty " + k,
	} {
		l := Parse([]byte(before))[0]
		with := l.WithExpiry(end)
		if with.Raw != want || with.Kind != Key {
			t.Errorf("%q became %q (%s), want %q", before, with.Raw, with.Why, want)
		}
		if at, ok := with.Expiry(time.UTC); !ok || !at.Equal(end.Truncate(time.Second)) {
			t.Errorf("%q ends at %v", with.Raw, at)
		}
		if without := with.WithExpiry(time.Time{}); len(without.Options) != len(with.Options)-1 ||
			!bytes.Equal(without.Blob, l.Blob) || without.Comment != l.Comment {
			t.Errorf("without its end: %q", without.Raw)
		}
	}
}

// FuzzAnEndKeepsTheKeyAndTheOtherOptions sets and takes away the end of any line that holds a key.
func FuzzAnEndKeepsTheKeyAndTheOtherOptions(f *testing.F) {
	k := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICBxkpHYm8G2kC4bTFuvYsKvIt1Jgx9FLkGaJyzBHt0J"
	for _, options := range []string{
		"", `from="a\"b" `, `expiry-time="x",no-pty `, "a,b=\"c,d e\"\t", ` environment="A=\\" `,
	} {
		f.Add(options + k + " c")
	}
	f.Fuzz(func(t *testing.T, raw string) {
		for _, l := range Parse([]byte(raw)) {
			if l.Kind != Key {
				continue
			}
			others := func(l Line) (out []Option) {
				for _, o := range l.Options {
					if o.Name != "expiry-time" {
						out = append(out, o)
					}
				}
				return out
			}
			for _, end := range []time.Time{time.Unix(1e9, 0), {}} {
				with := l.WithExpiry(end)
				_, has := with.Option("expiry-time")
				if with.Kind != Key || !bytes.Equal(with.Blob, l.Blob) || with.Comment != l.Comment || has == end.IsZero() ||
					!slices.Equal(others(with), others(l)) {
					t.Fatalf("%q became %q with %+v: %s", l.Raw, with.Raw, with.Options, with.Why)
				}
			}
		}
	})
}
