package authorizedkeys

import (
	"strings"
	"testing"
	"time"
)

const limitedKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICBxkpHYm8G2kC4bTFuvYsKvIt1Jgx9FLkGaJyzBHt0J"

func TestLimitsAreReadInOneFormOrRefused(t *testing.T) {
	for text, want := range map[string]string{
		"":                                      "",
		`  from="192.0.2.0/24",NO-PTY `:         `from="192.0.2.0/24",no-pty`,
		`command="echo \"hi, there\"",restrict`: `command="echo \"hi, there\"",restrict`,
		`command="a\\" b"`:                      `command="a\\" b"`,
		`from="!192.0.2.7,192.0.2.*",pty`:       `from="!192.0.2.7,192.0.2.*",pty`,
		`permitopen="a:1",permitopen="b:2"`:     `permitopen="a:1",permitopen="b:2"`,
	} {
		if got, err := ReadLimits(text); err != nil || got != want {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
	}
	for text, why := range map[string]string{
		`from="192.0.2.1/24"`:             "no network",
		`from="!192.0.2.7"`:               "nobody",
		`from=""`:                         "needs a value",
		`from="a",from="b"`:               "twice",
		`no-pty="x"`:                      "takes no value",
		`cert-authority`:                  "no option that limits",
		`principals="oona"`:               "no option that limits",
		`expiry-time="20270101"`:          "until",
		`no-pty restrict`:                 "space",
		`command="a" ` + limitedKey:       "space",
		"command=\"a\nssh-ed25519 AAAA\"": "control character",
		`command="a\"`:                    "quote",
		`command="a`:                      "quote",
		`from=192.0.2.1`:                  "not in quotes",
		`from="` + strings.Repeat("a", MaxLimits) + `"`: "longer",
	} {
		if got, err := ReadLimits(text); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q: %q, %v; want an error with %q", text, got, err, why)
		}
	}
}

func TestLimitsTakeThePlaceOfOptionsAndLeaveTheEnd(t *testing.T) {
	for before, want := range map[string]string{
		limitedKey + " oona\r\n":                                "restrict " + limitedKey + " oona\r\n",
		`no-pty,from="a, \"b\"" ` + limitedKey:                  "restrict " + limitedKey,
		`no-pty,Expiry-Time="20300101",pty` + "\t" + limitedKey: `Expiry-Time="20300101",restrict ` + limitedKey,
	} {
		l := Parse([]byte(before))[0]
		if with := l.WithLimits("restrict"); with.Raw != want || with.LimitText() != "restrict" {
			t.Errorf("%q became %q with %q, want %q", before, with.Raw, with.LimitText(), want)
		}
		_, ends := l.Expiry(time.UTC)
		if _, still := l.WithLimits("").Expiry(time.UTC); still != ends || l.WithLimits("").LimitText() != "" {
			t.Errorf("%q without limits is %q", before, l.WithLimits("").Raw)
		}
	}
	if OpensWith(`command="true"`) || !OpensWith(`from="a"`) || !OpensWith("") {
		t.Error("what a line with limits opens is wrong")
	}
	if told := LimitsTold(`from="a",command="b c",no-pty`); told != "only from a; only the command b c; no-pty" {
		t.Error(told)
	}
}

// FuzzLimits sees that what is taken as limits reads back as just that before a key.
func FuzzLimits(f *testing.F) {
	for _, s := range []string{`from="a",no-pty`, `command="a \"b\" c"`, `environment="A=\\"`, `tunnel="0"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		limits, err := ReadLimits(text)
		if err != nil {
			return
		}
		if again, err := ReadLimits(limits); err != nil || again != limits {
			t.Fatalf("%q was read as %q, and that as %q: %v", text, limits, again, err)
		}
		file := Parse([]byte(limitedKey + "\n"))
		l := file[0].WithLimits(limits)
		if got := Parse([]byte(l.Raw)); len(got) != 1 || got[0].Kind != Key || got[0].LimitText() != limits {
			t.Fatalf("%q became the line %q", text, l.Raw)
		}
	})
}

func TestALineThatSendsPeopleAwayIsToldFromOneThatRunsACommand(t *testing.T) {
	const key = " ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDUCV6X9BkSyMYBqEHVhvPjRcmn3TjsEsWQ0vG4zqzfk"
	const notice = `echo 'Please login as the user \"debian\" rather than the user \"root\".';echo;sleep 10;exit 142`
	for options, want := range map[string]bool{
		`no-port-forwarding,no-agent-forwarding,no-X11-forwarding,command="` + notice + `"`: true,
		`command="` + notice + `",no-pty`:                                          true,
		`command="` + notice + `;sh"`:                                              false,
		`command="sh;` + notice + `"`:                                              false,
		`command="` + strings.Replace(notice, "debian", "x';sh '", 1) + `"`:        false,
		`environment="A=command=\"` + strings.ReplaceAll(notice, `\"`, "") + `\""`: false,
		`command="rsync --server"`:                                                 false,
		"no-pty":                                                                   false,
	} {
		line := parseLine(options+key, 1)
		if got := SendsAway(line.LimitText()); got != want {
			t.Errorf("%s: %v", line.LimitText(), got)
		}
	}
}
