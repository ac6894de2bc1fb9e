package blueprint

import (
	"encoding/json"
	"maps"
	"strings"
	"testing"

	"cozyshelf/internal/core/household"
)

func TestVolumesHaveTheOptionsOfTheirShare(t *testing.T) {
	wren := Credentials{User: "wren", Password: "pa=ss word", Domain: "MILL"}
	for name, c := range map[string]struct {
		url   string
		write bool
		creds Credentials
		want  map[string]string
	}{
		"export to read": {"nfs://nas.home.arpa/export/films", false, Credentials{}, map[string]string{
			"type": "nfs4", "device": ":/export/films",
			"o": "addr=nas.home.arpa,ro,soft,timeo=150,retrans=2,nosuid,nodev,noexec,noatime"}},
		"export to change": {"nfs://192.0.2.7:20049/x?version=4.2", true, Credentials{}, map[string]string{
			"type": "nfs4", "device": ":/x",
			"o": "addr=192.0.2.7,rw,hard,nosuid,nodev,noexec,noatime,vers=4.2,port=20049"}},
		"old export": {"nfs://nas/x?version=3", false, Credentials{}, map[string]string{
			"type": "nfs", "device": ":/x",
			"o": "addr=nas,ro,soft,timeo=150,retrans=2,nosuid,nodev,noexec,noatime,vers=3,nolock"}},
		"share to read": {"smb://nas/media/films", false, wren, map[string]string{
			"type": "cifs", "device": "//nas/media/films",
			"o": "addr=nas,ro,username=wren,password=pa=ss " +
				"word,domain=MILL,uid=1500,gid=1501,forceuid,forcegid,file_mode=0440,dir_mode=0550,iocharset=utf8,nosuid,nodev,noexec"}},
		"share to change, of another": {"smb://ozan@nas/media?version=3.1.1", true, Credentials{}, map[string]string{
			"type": "cifs", "device": "//nas/media",
			"o": "addr=nas,rw,username=ozan,password=,uid=1500,gid=1501,forceuid,forcegid,file_mode=0640,dir_mode=0750,iocharset=utf8,nosuid,nodev,noexec,vers=3.1.1"}},
		"share for guests": {"smb://[2001:db8::7]/media", false, Credentials{}, map[string]string{
			"type": "cifs", "device": "//2001-db8--7.ipv6-literal.net/media",
			"o": "addr=2001:db8::7,ro,guest,uid=1500,gid=1501,forceuid,forcegid,file_mode=0440,dir_mode=0550,iocharset=utf8,nosuid,nodev,noexec"}},
	} {
		s, err := household.ParseShare(c.url)
		if err != nil {
			t.Fatal(err)
		}
		if got := (Volume{Share: s, Write: c.write, UID: 1500, GID: 1501}).Options(c.creds); !maps.Equal(got, c.want) {
			t.Errorf("%s:\ngot  %v\nwant %v", name, got, c.want)
		}
	}
}

func TestCredentialsAreReadStrictly(t *testing.T) {
	for text, want := range map[string]Credentials{
		"username=wren\npassword=x\n":                       {User: "wren", Password: "x"},
		"# mine\r\n\r\nuser=wren\r\npass= a=b \r\ndom=MILL": {User: "wren", Password: " a=b ", Domain: "MILL"},
		"": {},
	} {
		if got, err := ParseCredentials([]byte(text)); err != nil || got != want {
			t.Errorf("%q: got %+v, %v", text, got, err)
		}
	}
	for _, text := range []string{"wren", "username=a,b", "password=x,rw", "uid=0", "password=\x00"} {
		if got, err := ParseCredentials([]byte(text)); err == nil {
			t.Errorf("%q: got %+v", text, got)
		}
	}
}

func FuzzParseCredentials(f *testing.F) {
	f.Add([]byte("username=wren\npassword=x\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := ParseCredentials(b)
		if err == nil && strings.ContainsAny(c.User+c.Password+c.Domain, ",\n\x00") {
			t.Errorf("got %+v", c)
		}
	})
}

// TestAShareIsAVolumeWithoutItsSecrets draws a household with shares.
func TestAShareIsAVolumeWithoutItsSecrets(t *testing.T) {
	h := mill(t)
	h.Shelves = append(h.Shelves, household.Shelf{Name: "far", Kind: household.Films, Access: household.Read,
		Folders: []string{"smb://nas/films"}, Credentials: "/etc/cred"})
	stamp := "1"
	s := site
	s.Stamp = func(string) string { return stamp }
	one := Draw(h, s)
	if len(one.Volumes) != 1 || !strings.HasPrefix(one.Volumes[0].Name, "cozyshelf-"+one.Server().Household+"-far-1-") {
		t.Fatalf("volumes: %+v", one.Volumes)
	}
	last := one.Server().Mounts[len(one.Server().Mounts)-1]
	if !last.Volume || last.Source != one.Volumes[0].Name || last.Target != "/shelves/far/1" || !last.ReadOnly {
		t.Errorf("mount: %+v", last)
	}
	changes := Compare(one, Observed{Volumes: []string{"cozyshelf-old"}}, Host{})
	made, gone := false, false
	for _, c := range changes {
		made = made || c.Action == MakeVolume && c.Target == one.Volumes[0].Name
		gone = gone || c.Action == RemoveVolume && c.Target == "cozyshelf-old"
	}
	if !made || !gone {
		t.Errorf("changes: %+v", changes)
	}
	// Another password is another volume, and so another container.
	stamp = "2"
	two := Draw(h, s)
	if two.Volumes[0].Name == one.Volumes[0].Name || two.Server().Digest() == one.Server().Digest() {
		t.Error("a changed credentials file changes nothing")
	}
	if d := Differences(one.Server(), two.Server()); len(d) != 1 || d[0] != "how far mounts smb://nas/films" {
		t.Errorf("differences: %q", d)
	}
	b, err := json.Marshal(one)
	if err != nil || strings.Contains(string(b), "password") {
		t.Errorf("%s, %v", b, err)
	}
}
