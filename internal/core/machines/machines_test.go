package machines

import (
	"reflect"
	"strings"
	"testing"
)

func TestEachFormatNamesTheSameMachines(t *testing.T) {
	want := []Machine{
		{Name: "weather-mast", Address: "192.0.2.30", Port: 22, User: "pi"},
		{Name: "gauge-7", Address: "gauge.example", Port: 2222, User: "warden"},
	}
	for format, text := range map[Format]string{
		CSV: "name,address,port,login\nweather-mast,192.0.2.30,,pi\n\"gauge-7\", gauge.example,2222,warden\n",
		JSON: `[{"name": "weather-mast", "address": "192.0.2.30", "login_user": "pi"}, ` +
			`{"name": "gauge-7", "address": "gauge.example", "port": 2222, "login": "warden"}]`,
		SSHConfig: "# ours\nHost weather-mast\n  HostName 192.0.2.30\n  User=pi\nHost gauge-7 g7\n\tHostName " +
			"\"gauge.example\"\n\tPort 2222\nHost gauge-*\n  User warden\n  Port 99\nHost *\n  User nobody\n",
	} {
		for _, ends := range []string{text, strings.ReplaceAll(text, "\n", "\r\n"), "\ufeff" + text} {
			got, list, err := Read(ends, "")
			if err != nil || got != format || len(list) != len(want) {
				t.Fatalf("%s: read as %s: %+v, %v", format, got, list, err)
			}
			for n, m := range list {
				m.Line = 0
				if !reflect.DeepEqual(m, want[n]) {
					t.Errorf("%s: %+v, want %+v", format, m, want[n])
				}
			}
		}
	}
}

func TestAMachineThatCannotBeAdoptedSaysWhy(t *testing.T) {
	_, list, err := Read(
		"name;address;port;login;team\n Mast One "+
			";a.example;;pi;cameras\nmast-one;b.example;;pi;\nx;;;pi;\ny;c.example;70000;pi;\n"+
			"z;d.example;ssh;pi;\nw;e.example;;;\n;f.example;;pi;\n",
		"",
	)
	if err != nil {
		t.Fatal(err)
	}
	for n, part := range []string{
		"",
		"line 2 already",
		"no address",
		"70000 is no port",
		`"ssh" is no port`,
		"which OS user",
		"",
	} {
		if got := list[n].Refused; part == "" && got != "" || !strings.Contains(got, part) {
			t.Errorf("line %d: %q, want %q", list[n].Line, got, part)
		}
	}
	if list[0].Name != "mast-one" || list[0].Labels["team"] != "cameras" || list[0].Line != 2 ||
		list[6].Name != "f.example" {
		t.Errorf("%+v", list)
	}
	_, list, err = Read(
		"Host far\n  User pi\n  ProxyJump bastion\nHost near !far\n  User pi\nMatch user root\n  User root\nHost last\n",
		"",
	)
	if err != nil || list[0].Via != "bastion" || list[0].Refused != "" || list[1].Refused != "" ||
		list[1].Address != "near" ||
		!strings.Contains(list[2].Refused, "OS user") {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestAListThatCannotBeReadSaysWhere(t *testing.T) {
	for text, part := range map[string]string{
		"":                                       "no machine",
		"# nothing\n":                            "no machine",
		"weather-mast,192.0.2.30\n":              "heading",
		"name,address\n\"a,b\n":                  "line 2",
		"name,address\na\n":                      "wrong number of fields",
		"[{\"name\": \"a\",\n \"port\": \"b\"}]": "line 2",
		"{\"a\": 1}":                             "no array",
		"[":                                      "cannot be read",
	} {
		if _, list, err := Read(text, ""); err == nil || !strings.Contains(err.Error(), part) {
			t.Errorf("%q: %+v, %v; want %q", text, list, err, part)
		}
	}
}

func TestPatternsFitAsInSSHConfig(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		fits          bool
	}{
		{"*", "", true},
		{"gauge-?", "gauge-7", true},
		{"gauge-?", "gauge-17", false},
		{"*.example", "a.b.example", true},
		{"a*b*c", "axxbyyc", true},
		{"a*b*c", "axxbyy", false},
		{strings.Repeat("*a", 40), strings.Repeat("a", 4000) + "b", false},
	} {
		if matches(c.pattern, c.text) != c.fits {
			t.Errorf("%q and %q: not %v", c.pattern, c.text, c.fits)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("name,address\na,b\n")
	f.Add("[{}]")
	f.Add("Host *a?\nPort 1\n")
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 1<<12 {
			return
		}
		_, list, err := Read(text, "")
		for _, m := range list {
			if err == nil && m.Refused == "" && (m.Name == "" || m.Address == "" || m.User == "" || m.Port < 1) {
				t.Errorf("%+v", m)
			}
		}
	})
}
