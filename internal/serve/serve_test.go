package serve

import (
	"context"
	"crypto/tls"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/client"
	"hen-roost/internal/connect"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "rw")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// The service keeps its certificate over a restart, and leaves its port and its database behind in order.
func TestStartTwice(t *testing.T) {
	c := Config{Listen: "127.0.0.1:0", Data: folder(t), Throwaway: true, Log: quiet}
	first, err := Start(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	cl := client.New(first.Address, "", first.Print)
	if err := cl.Get(context.Background(), "/session", nil, nil); err == nil || !strings.Contains(err.Error(), "you are not signed in") {
		t.Errorf("%v", err)
	}
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	for path, want := range map[string]int{"/": 200, "/users/marit.fell": 200, "/assets/nothing.js": 404, "/api/nothing": 404} {
		resp, err := web.Get(first.Address + path)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != want {
			t.Errorf("%s: %d, want %d; is the console built? make console", path, resp.StatusCode, want)
		}
		for _, h := range []string{"Content-Security-Policy", "X-Content-Type-Options", "Strict-Transport-Security"} {
			if resp.Header.Get(h) == "" {
				t.Errorf("%s has no %s", path, h)
			}
		}
	}
	for _, file := range []string{"tls.key", "seal.key"} {
		if info, err := os.Stat(c.Data + "/" + file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", file, info, err)
		}
	}
	taken := c
	taken.Listen, taken.Data = strings.TrimPrefix(first.Address, "https://"), folder(t)
	if _, err := Start(context.Background(), taken); err == nil || !strings.Contains(err.Error(), "address already in use") {
		t.Errorf("%v", err)
	}
	first.Close()
	if conn, err := net.Dial("tcp", strings.TrimPrefix(first.Address, "https://")); err == nil {
		conn.Close()
		t.Error("it still listens")
	}
	second, err := Start(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	if second.Print != first.Print {
		t.Error("another certificate after a restart")
	}
}

// Wrong configuration stops the start, before a port is opened or a database made.
func TestWrongConfiguration(t *testing.T) {
	for want, c := range map[string]Config{
		"go together":        {Listen: "127.0.0.1:0", Certificate: "x.pem"},
		"no such file":       {Listen: "127.0.0.1:0", Certificate: "/nowhere/x.pem", CertificateKey: "/nowhere/x.key"},
		"listen: ":           {Listen: "nonsense"},
		"database address":   {Listen: "127.0.0.1:0", Database: "nonsense"},
		"connection refused": {Listen: "127.0.0.1:0", Database: "u:secret-pw@tcp(127.0.0.1:1)/x"},
	} {
		c.Data, c.Log = folder(t), quiet
		s, err := Start(context.Background(), c)
		if err == nil {
			s.Close()
		}
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "secret-pw") {
			t.Errorf("%+v: %v, want %s", c.Listen, err, want)
		}
		if _, err := os.Stat(c.Data + "/db"); err == nil {
			t.Errorf("%s: a database was made all the same", want)
		}
	}
	broken := Config{Listen: "127.0.0.1:0", Data: folder(t), Log: quiet}
	if err := os.WriteFile(broken.Data+"/tls.pem", []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(broken.Data+"/tls.key", []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(context.Background(), broken); err == nil || !strings.Contains(err.Error(), "the certificate in") {
		t.Errorf("%v", err)
	}
}

// A dialect that is broken stops its own kind of target, whose declaration is still understood, and nothing else.
func TestBrokenDialect(t *testing.T) {
	dialects, data := t.TempDir(), t.TempDir()
	text, err := os.ReadFile("../../demo/dialects/manning.yaml")
	if err != nil {
		t.Fatal(err)
	}
	put := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(dialects+"/"+name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put("manning.yaml", string(text))
	read := func(broken int) connect.Kinds {
		t.Helper()
		known := &keptDialects{folder: data + "/dialects"}
		kinds, err := kindsWith(dialects, known)
		if err != nil || len(known.broken) != broken {
			t.Fatalf("%v, broken: %v", err, known.broken)
		}
		return kinds
	}
	whole := read(0)
	put("manning.yaml", strings.Replace(string(text), "holds:", "holdz:", 1))
	put("never.yaml", "dialect: 1\nkind: never\n")
	kinds := read(2)
	asked := func(k connect.Kinds) any { return k["manning"].Schema().Account().Attributes }
	if kinds["never"] != nil || !reflect.DeepEqual(asked(kinds), asked(whole)) {
		t.Errorf("%v", kinds)
	}
	if _, err := kinds["manning"].Open(context.Background(), connect.Access{Target: "crewing"}); err == nil ||
		!strings.Contains(err.Error(), "crewing: connect: the dialect manning is broken, so its targets stand still") {
		t.Errorf("%v", err)
	}
	if _, err := Kinds(dialects); err == nil {
		t.Error("a broken file is not told where nobody goes on without it")
	}
	put("manning.yaml", string(text))
	put("never.yaml", string(text))
	_, err = kindsWith(dialects, &keptDialects{folder: data + "/dialects"})
	if err == nil || !strings.Contains(err.Error(), "there is a kind") {
		t.Errorf("two files for a kind: %v", err)
	}
}

// A dialect that is put into the folder, changed or broken is read anew without a restart; one that does not fit what is declared
// is not taken, and all stays as it was.
func TestReread(t *testing.T) {
	text, err := os.ReadFile("../../demo/dialects/manning.yaml")
	if err != nil {
		t.Fatal(err)
	}
	c := Config{Listen: "127.0.0.1:0", Data: folder(t), Throwaway: true, Log: quiet, Dialects: t.TempDir()}
	s, err := Start(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	put := func(text string) {
		t.Helper()
		if err := os.WriteFile(c.Dialects+"/manning.yaml", []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	until := func(what string, so func() bool) {
		t.Helper()
		for range 1000 {
			if so() {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
		t.Fatal("it does not come to: " + what)
	}
	said := func(words string) func() bool {
		return func() bool {
			page, err := s.Service.Record(context.Background(), door.Itself, door.RecordFilter{Kind: "dialect"}, 1)
			return err == nil && len(page.Items) > 0 && page.Items[0].Words == words
		}
	}
	put(string(text))
	until("a kind", func() bool {
		return s.Service.Kinds()["manning"] != nil && s.Service.Schemas()["manning"].Kind == "manning"
	})
	until("a word", said("the dialect manning is new"))
	put(strings.Replace(string(text), "holds:", "holdz:", 1))
	until("broken", said("the dialect manning is broken, and its targets stand still until it is mended"))
	put(string(text))
	until("mended", said("the dialect manning is mended"))
	declaration := "roost: 1\nroles: {all: {gives: [{at: crewing, account: {belongs: deck}}]}}\nusers: {x: {name: X, roles: [all]}}\n" +
		"targets: {crewing: {kind: manning, address: \"a:1\", login: {as: x, secret: y}}}\n"
	files := []declare.File{{Name: "c.yaml", Text: declaration}}
	if _, err := s.Service.Declare(context.Background(), door.Itself, files, "x"); err != nil {
		t.Fatal(err)
	}
	put(strings.ReplaceAll(string(text), "belongs", "rank"))
	time.Sleep(3 * rereadEvery)
	if _, known := s.Service.Schemas()["manning"].Find(model.Account, "rank"); known {
		t.Error("what does not fit the declaration was taken")
	}
	put(string(text) + "# said anew\n")
	until("another", said("the dialect manning was read anew"))
}
