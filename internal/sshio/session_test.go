package sshio

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/sshio/sshdtest"
)

// atSSHD logs in to a real sshd whose file holds the text and the key logged in with.
func atSSHD(t *testing.T, text string) (*sshdtest.Server, Target, ssh.Signer, *Session) {
	t.Helper()
	server, signer := sshdtest.Start(t), newSigner(t)
	if err := os.WriteFile(server.KeysFile, []byte(text+line(signer, "steward")), 0o640); err != nil {
		t.Fatal(err)
	}
	target := Target{
		User:     server.User,
		Address:  "127.0.0.1",
		Port:     server.Port,
		HostKeys: [][]byte{server.HostKey.Marshal()},
	}
	s, err := Login(t.Context(), target, signer)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return server, target, signer, s
}

func line(s ssh.Signer, comment string) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey()))) + " " + comment + "\n"
}

func add(text string) func(authorizedkeys.File) (authorizedkeys.File, error) {
	return func(f authorizedkeys.File) (authorizedkeys.File, error) { return f.Add(strings.TrimSpace(text)), nil }
}

func content(t *testing.T, file string) string {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestEditAtARealSSHDKeepsForeignLinesModeAndOwner(t *testing.T) {
	foreign := "# by hand\t \r\n\r\nfrom=\"10.0.0.0/8\" ssh-puffin AAAA  odd\nhalf a line \xff\n"
	server, target, _, s := atSSHD(t, foreign)
	before, fresh := content(t, server.KeysFile), newSigner(t)
	after, err := s.Edit(server.KeysFile, add(line(fresh, "fresh")))
	if err != nil || string(after.Content) != before+strings.TrimSpace(line(fresh, "fresh"))+"\r\n" ||
		content(t, server.KeysFile) != string(after.Content) {
		t.Fatalf("%v\n%q", err, after.Content)
	}
	if info, err := os.Stat(server.KeysFile); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the mode is now %v %v", info.Mode(), err)
	}
	in, err := Login(t.Context(), target, fresh)
	if err != nil {
		t.Fatalf("the key that was placed does not open the login: %v", err)
	}
	in.Close()
	if _, err := s.Edit(server.KeysFile, func(f authorizedkeys.File) (authorizedkeys.File, error) {
		return slices.DeleteFunc(
			slices.Clone(f),
			func(l authorizedkeys.Line) bool { return bytes.Equal(l.Blob, fresh.PublicKey().Marshal()) },
		), nil
	}); err != nil || content(t, server.KeysFile) != before {
		t.Errorf("placed and removed it is\n%q, was\n%q: %v", content(t, server.KeysFile), before, err)
	}
	if _, err := Login(t.Context(), target, fresh); !errors.Is(err, ErrRefused) {
		t.Errorf("the removed key: %v", err)
	}
	if left, err := filepath.Glob(server.KeysFile + ".*"); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v %v", left, err)
	}
}

func TestAnEditThatIsCutOffLeavesTheFileWhole(t *testing.T) {
	for name, at := range map[string]int{"before the write": 1, "at the second look": 2} {
		server, target, signer, _ := atSSHD(t, "# kept\n")
		before := content(t, server.KeysFile)
		ctx, cut := context.WithCancel(t.Context())
		s, err := Login(ctx, target, signer)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		calls := 0
		_, err = s.Edit(server.KeysFile, func(f authorizedkeys.File) (authorizedkeys.File, error) {
			if calls++; calls == at {
				cut()
				s.client.Wait()
			}
			if at == 2 && calls == 1 { // somebody else's edit, so that there is a second look
				before += "# somebody\n"
				return f.Add("# ours"), os.WriteFile(server.KeysFile, []byte(before), 0o640)
			}
			return f.Add("# ours"), nil
		})
		if err == nil || content(t, server.KeysFile) != before {
			t.Errorf("cut off %s: %v\n%q, was\n%q", name, err, content(t, server.KeysFile), before)
		}
	}
}

func TestAnEditNeverOverwritesWhatSomebodyElseWrote(t *testing.T) {
	server, target, signer, s := atSSHD(t, "")
	calls := 0
	if _, err := s.Edit(server.KeysFile, func(f authorizedkeys.File) (authorizedkeys.File, error) {
		if calls++; calls < 3 {
			theirs := content(t, server.KeysFile) + "# theirs\n"
			return f.Add("# ours"), os.WriteFile(server.KeysFile, []byte(theirs), 0o640)
		}
		return f.Add("# ours"), nil
	}); err != nil || calls != 3 || strings.Count(content(t, server.KeysFile), "# theirs") != 2 ||
		strings.Count(content(t, server.KeysFile), "# ours") != 1 {
		t.Errorf("%v after %d tries:\n%s", err, calls, content(t, server.KeysFile))
	}
	if _, err := s.Edit(server.KeysFile, func(f authorizedkeys.File) (authorizedkeys.File, error) {
		return f.Add("# ours"), os.WriteFile(server.KeysFile, []byte(content(t, server.KeysFile)+"# again\n"), 0o640)
	}); !errors.Is(err, ErrEdited) || strings.Count(content(t, server.KeysFile), "# ours") != 1 {
		t.Errorf("edited without end: %v", err)
	}
	var together sync.WaitGroup
	var placed [8][4]bool
	for n := range placed {
		together.Go(func() {
			other, err := Login(t.Context(), target, signer)
			if err != nil {
				t.Error(err)
				return
			}
			defer other.Close()
			for k := range placed[n] {
				ours := fmt.Sprintf("# together %d %d", n, k)
				_, err := other.Edit(server.KeysFile, func(f authorizedkeys.File) (authorizedkeys.File, error) {
					if strings.Contains(string(f.Bytes()), ours+"\n") {
						return f, nil // it was called again after it had written
					}
					return f.Add(ours), nil
				})
				placed[n][k] = err == nil
				if err != nil && !errors.Is(err, ErrEdited) {
					t.Error(err)
				}
			}
		})
	}
	together.Wait()
	text := content(t, server.KeysFile)
	if !strings.Contains(text, "steward") || strings.Count(text, "# theirs") != 2 {
		t.Errorf("eight at once lost a line:\n%s", text)
	}
	all := 0
	for n := range placed {
		for k, done := range placed[n] {
			got := strings.Count(text, fmt.Sprintf("# together %d %d\n", n, k))
			if all += got; got > 1 || done && got != 1 {
				t.Errorf("line %d of editor %d is in place there %d times; placed: %v", k, n, got, done)
			}
		}
	}
	if all < 8 {
		t.Errorf("only %d of 32 lines could be placed", all)
	}
}

// TestATemporaryFileOfSomebodyWhoDiedHoldsUpAnEditForAWhileOnly leaves one behind.
func TestATemporaryFileOfSomebodyWhoDiedHoldsUpAnEditForAWhileOnly(t *testing.T) {
	t.Parallel() // it waits
	server, _, _, s := atSSHD(t, "# kept\n")
	left := server.KeysFile + BesideSuffix
	if err := os.WriteFile(left, []byte("half a"), 0o600); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	if _, err := s.Edit(server.KeysFile, add("# ours")); err != nil {
		t.Fatal(err)
	}
	if time.Since(begun) < abandonedAfter {
		t.Error("a file that somebody may be writing was taken away at once")
	}
	if _, err := os.Stat(left); !errors.Is(err, os.ErrNotExist) || content(t, server.KeysFile)[:7] != "# kept\n" ||
		!strings.HasSuffix(content(t, server.KeysFile), "# ours\n") {
		t.Errorf("%v\n%s", err, content(t, server.KeysFile))
	}
}

func TestWhatIsNoOrdinaryFileIsSaidAndLeft(t *testing.T) {
	server, _, _, s := atSSHD(t, "")
	dir := filepath.Dir(server.KeysFile)
	if err := errors.Join(os.Mkdir(filepath.Join(dir, "folder"), 0o700), os.Symlink(
		server.KeysFile, filepath.Join(dir, "link"),
	),
		os.WriteFile(filepath.Join(dir, "huge"), make([]byte, MaxFileBytes+1), 0o600)); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"folder": "not the ordinary file",
		"link":   "is not followed",
		"huge":   "is the limit",
	} {
		if _, err := s.Edit(filepath.Join(dir, name), add("# ours")); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if link, err := os.Lstat(filepath.Join(dir, "link")); err != nil || link.Mode()&fs.ModeSymlink == 0 {
		t.Error("the link was replaced")
	}
	missing := filepath.Join(dir, "home", "authorized_keys")
	if r, err := s.Read(missing); err != nil || r.There {
		t.Errorf("a file that is not there: %+v %v", r, err)
	}
	if _, err := s.Edit(missing, add("# ours")); err != nil || content(t, missing) != "# ours\n" {
		t.Errorf("made again: %v", err)
	}
	if info, err := os.Stat(filepath.Dir(missing)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the folder that was made: %v %v", info.Mode(), err)
	}
	large := strings.Repeat("# "+strings.Repeat("x", 100)+"\n", 9_000) // 0.9 MB
	if err := os.WriteFile(server.KeysFile, []byte(large), 0o600); err != nil {
		t.Fatal(err)
	}
	if r, err := s.Edit(server.KeysFile, add("# ours")); err != nil || string(r.Content) != large+"# ours\n" {
		t.Errorf("a file of 0.9 MB: %v", err)
	}
}

func TestTheServersSettingNamesTheFiles(t *testing.T) {
	for config, want := range map[string][]string{
		"":                                      {"/h/x/.ssh/authorized_keys", "/h/x/.ssh/authorized_keys2"},
		"#AuthorizedKeysFile y":                 {"/h/x/.ssh/authorized_keys", "/h/x/.ssh/authorized_keys2"},
		"AuthorizedKeysFile none":               {},
		"authorizedkeysfile\t/etc/keys/%u .k\n": {"/etc/keys/x", "/h/x/.k"},
		"AuthorizedKeysFile=\"%h/k\"":           {"/h/x/k"},
		"Match User x\nAuthorizedKeysFile y":    {"/h/x/y"},
		"Include sshd_config.d/*.conf\n":        {"/k/x"},
		"Include none/*.conf\n":                 {"/h/x/.ssh/authorized_keys", "/h/x/.ssh/authorized_keys2"},
	} {
		files := configOf{
			ServerConfig:                     config,
			"/etc/ssh/sshd_config.d/a.conf":  "AuthorizedKeysFile /k/%u\n",
			"/etc/ssh/sshd_config.d/.b.conf": "AuthorizedKeysFile /hidden/%u\n",
			"/etc/ssh/sshd_config.d/a.orig":  "AuthorizedKeysFile /other/%u\n",
		}
		u := sshdconfig.User{Name: "x", UID: 1000, Home: "/h/x"}
		settings, err := ReadSettings(files, u)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := KeyFilesOf(settings, u); err != nil || !slices.Equal(got, want) {
			t.Errorf("%q names %q %v, want %q", config, got, err, want)
		}
	}
}

// configOf are files by their paths; "?" is one that may not be read.
type configOf map[string]string

func (c configOf) ReadFile(name string) ([]byte, error) {
	content, ok := c[name]
	switch {
	case !ok:
		return nil, fs.ErrNotExist
	case content == "?":
		return nil, fs.ErrPermission
	}
	return []byte(content), nil
}

func (c configOf) Names(folder string) (names []string, err error) {
	for name := range c {
		if path.Dir(name) == folder {
			names = append(names, path.Base(name))
		}
	}
	return names, nil
}

func (c configOf) Groups() ([]string, error) { return []string{"ops"}, nil }

func TestWhatAServerLetsInBesideKeysIsReadOrSaidNotToBe(t *testing.T) {
	signer := newSigner(t)
	ca := string(ssh.MarshalAuthorizedKey(signer.PublicKey()))
	u := sshdconfig.User{Name: "x", UID: 1000, Home: "/h/x"}
	for what, c := range map[string]struct {
		files configOf
		want  func(reading.Server) bool
	}{
		"may not be read": {configOf{ServerConfig: "?"}, func(s reading.Server) bool { return s.Unread != "" }},
		"one of those included may not be read": {
			configOf{ServerConfig: "Include /etc/ssh/d/*.conf", "/etc/ssh/d/a.conf": "?"},
			func(s reading.Server) bool { return s.Unread != "" },
		},
		"would not start": {
			configOf{ServerConfig: "Match User\n"}, func(s reading.Server) bool { return s.Unread != "" },
		},
		"includes itself": {
			configOf{ServerConfig: "Include " + ServerConfig}, func(s reading.Server) bool { return s.Unread != "" },
		},
		"passwords": {
			configOf{ServerConfig: ""},
			func(s reading.Server) bool { return slices.Equal(s.Methods, []sshdconfig.Method{sshdconfig.Password}) },
		},
		"an authority": {
			configOf{
				ServerConfig: "TrustedUserCAKeys /ca\nPasswordAuthentication no\nAuthorizedPrincipalsFile /p/%u\n",
				"/ca":        ca,
			},
			func(s reading.Server) bool {
				return len(s.Authorities) == 1 && s.Authorities[0].Fingerprint == ssh.FingerprintSHA256(signer.PublicKey()) &&
					slices.Equal(s.Principals, []string{"/p/x"}) && len(s.Methods) == 0 && s.AuthoritiesUnread == ""
			},
		},
		"an authority that may not be read": {
			configOf{ServerConfig: "TrustedUserCAKeys /ca\n", "/ca": "?"},
			func(s reading.Server) bool { return s.AuthoritiesUnread != "" },
		},
		"a command": {
			configOf{ServerConfig: "AuthorizedKeysCommand /bin/keys %u\n"},
			func(s reading.Server) bool { return s.KeysCommand == "/bin/keys %u" },
		},
		"not admitted": {
			configOf{ServerConfig: "AllowGroups other\n"},
			func(s reading.Server) bool { return s.Refused == sshdconfig.AllowGroups },
		},
		"admitted by the group": {
			configOf{ServerConfig: "AllowGroups ops\n"},
			func(s reading.Server) bool { return s.Refused == "" && s.Doubt == "" },
		},
		"by the address": {
			configOf{ServerConfig: "PasswordAuthentication no\nMatch Address 10.0.0.0/8\nPasswordAuthentication yes\n"},
			func(s reading.Server) bool { return len(s.Methods) == 0 && len(s.Conditional) == 1 },
		},
	} {
		if got, err := ReadSettings(c.files, u); err != nil || !c.want(got.Server) {
			t.Errorf("%s: %+v %v", what, got.Server, err)
		}
	}
	if got, err := ReadSettings(configOf{ServerConfig: manyIncludes(80)}, u); !errors.Is(err, errConfigLimit) {
		t.Errorf("80 patterns to include: %+v %v", got.Server, err)
	}
}

// manyIncludes are so many files that do not exist, each of which is asked for.
func manyIncludes(n int) string {
	var out strings.Builder
	for i := range n {
		fmt.Fprintf(&out, "Include /etc/ssh/x%d\n", i)
	}
	return out.String()
}

func TestAFullDiskLeavesTheFileWhole(t *testing.T) {
	signer := newSigner(t)
	text := "# tide tables\n" + line(signer, "mine") + strings.Repeat("# a line that is kept\n", 400)
	server := sshdtest.StartFull(t, text, 64)
	target := Target{
		User:     server.User,
		Address:  "127.0.0.1",
		Port:     server.Port,
		HostKeys: [][]byte{server.HostKey.Marshal()},
	}
	session, err := Login(t.Context(), target, signer)
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	_, err = session.Edit(server.KeysFile, add(strings.TrimSpace(line(newSigner(t), "second"))))
	if err == nil || !strings.Contains(err.Error(), "it was left unchanged") {
		t.Errorf("on a full disk: %v", err)
	}
	if got := content(t, server.KeysFile); got != text {
		t.Errorf("the file has %d bytes, had %d", len(got), len(text))
	}
	entries, err := os.ReadDir(filepath.Dir(server.KeysFile))
	if err != nil || len(entries) != 2 {
		t.Errorf("left behind beside it: %v %v", entries, err)
	}
}

func TestOneConnectionShowsWhoIsRefusedAndWhoGetsIn(t *testing.T) {
	server, target, signer, _ := atSSHD(t, "")
	other := newSigner(t)
	session, accepted, err := LoginAndSee(t.Context(), target, signer, other.PublicKey().Marshal())
	if err != nil || accepted {
		t.Fatalf("%v %v", accepted, err)
	}
	if _, err := session.ReadAll(); err != nil {
		t.Errorf("the login is none: %v", err)
	}
	session.Close()
	if _, _, err := LoginAndSee(t.Context(), target, newSigner(t), other.PublicKey().Marshal()); !errors.Is(
		err, ErrRefused,
	) {
		t.Errorf("a key that opens nothing: %v", err)
	}
	if err := os.WriteFile(server.KeysFile, []byte(line(signer, "mine")+line(other, "other")), 0o600); err != nil {
		t.Fatal(err)
	}
	if session, accepted, err := LoginAndSee(t.Context(), target, signer, other.PublicKey().Marshal()); err != nil ||
		!accepted ||
		session != nil {
		t.Errorf("both open it: %v %v %v", session, accepted, err)
	}
}

func TestOnlyAnOpenSSHThatCountsInUTCEndsLines(t *testing.T) {
	for version, want := range map[string]bool{
		"SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u3": true, "SSH-2.0-OpenSSH_10.0": true, "SSH-2.0-OpenSSH_9.1": true,
		"SSH-2.0-OpenSSH_9.0": false, "SSH-2.0-OpenSSH_8.9p1": false, "SSH-2.0-dropbear_2022.83": false, "": false,
		"SSH-2.0-Go": false, "SSH-2.0-OpenSSH_99999999999999999999.1": false,
	} {
		if got := EndsLines(version); got != want {
			t.Errorf("%q: %v", version, got)
		}
	}
}
