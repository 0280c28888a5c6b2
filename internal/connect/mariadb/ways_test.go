package mariadb

import (
	"fmt"
	"strings"
	"testing"
)

// Ways in as they are declared, beside those that are there.
func TestAsked(t *testing.T) {
	secret := way{edPlugin, "hash"}
	socket := way{"unix_socket", "odd.strand"}
	for _, c := range []struct {
		has  []way
		want []string
		is   string
	}{
		{nil, []string{"password"}, "[{mysql_native_password invalid}]"}, {[]way{secret}, []string{"password"}, "[{ed25519 hash}]"},
		{[]way{secret}, []string{"mysql_native_password", "unix_socket"}, "[{ed25519 hash} {unix_socket }]"},
		{[]way{secret, socket}, []string{"unix_socket  odd.strand"}, "[{unix_socket odd.strand}]"},
		{[]way{secret, socket}, []string{"unix_socket", "password"}, "[{ed25519 hash} {unix_socket }]"},
		{[]way{socket, secret, {nativePlugin, "other"}}, []string{"password"}, "[{ed25519 hash} {mysql_native_password other}]"},
		{nil, []string{"pam mariadb"}, "[{pam mariadb}]"}, {nil, []string{"parsec"}, "[{mysql_native_password invalid}]"},
		{[]way{secret}, nil, "fault sign-in is empty"}, {nil, []string{"Odd Plugin"}, "fault sign-in is"}, {nil, []string{"x'; DROP"},
			"fault sign-in is"},
		{nil, []string{"certificates are_it"}, "fault sign-in is"},
	} {
		got, err := asked(c.has, c.want)
		var parts []string
		for _, w := range got {
			parts = append(parts, fmt.Sprintf("{%s %s}", w.Plugin, w.Auth))
		}
		s := "[" + strings.Join(parts, " ") + "]"
		if err != nil {
			s = "fault " + err.Error()
		}
		if s != c.is && (err == nil || !strings.HasPrefix(s, c.is)) {
			t.Errorf("%v beside %v: %s, want %s", c.want, c.has, s, c.is)
		}
	}
	if s := (way{"caching_sha2_password", "a hash"}).String(); s != "password" {
		t.Errorf("a hash is shown: %s", s)
	}
	if s := (way{"someplugin", "a secret of its own"}).String(); s != "someplugin" {
		t.Errorf("what a plugin keeps is shown: %s", s)
	}
	for asked, want := range map[string]string{"": edPlugin, edPlugin: edPlugin, nativePlugin: nativePlugin} {
		if got, err := preferred([]string{nativePlugin, edPlugin}, asked); err != nil || got != want {
			t.Errorf("%q: %s %v", asked, got, err)
		}
	}
	if got, err := preferred([]string{nativePlugin}, ""); err != nil || got != nativePlugin {
		t.Errorf("%s %v", got, err)
	}
	if _, err := preferred([]string{nativePlugin}, edPlugin); err == nil || !strings.Contains(err.Error(), "INSTALL SONAME") {
		t.Error(err)
	}
}
