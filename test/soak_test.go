package test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// open is what stands open on both sides: our goroutines, files and the processes below us, and who is signed in to the
// databases and the hosts with our login.
func (l *lives) open() map[string]int {
	l.Helper()
	out := map[string]int{"goroutines": runtime.NumGoroutine()}
	files, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		l.Fatal(err)
	}
	out["files"] = len(files)
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, s := range stats {
		b, err := os.ReadFile(s)
		if _, rest, ok := strings.Cut(string(b), ") "); err == nil && ok && strings.Fields(rest)[1] == fmt.Sprint(os.Getpid()) {
			out["processes"]++
		}
	}
	asked := func(what, answer string, err error) {
		n := 0
		if _, scan := fmt.Sscan(answer, &n); err != nil || scan != nil {
			l.Fatalf("%s: %q %v %v", what, answer, err, scan)
		}
		out[what] = n
	}
	answer, err := l.d.Stores.Ask("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE USER = 'hen-roost'")
	asked("sessions of MariaDB", answer, err)
	answer, err = l.d.Rota.Ask("rota", "SELECT COUNT(*) FROM pg_stat_activity WHERE application_name = 'hen-roost'")
	asked("sessions of PostgreSQL", answer, err)
	for name, h := range l.d.Hosts {
		answer, err := h.Exec("grep -lz '^sshd: root\\|dropbear' /proc/[0-9]*/cmdline 2>/dev/null | wc -l")
		asked("sign-ins on "+name, answer, err)
	}
	return out
}

// closed says what stays open that did not before, once it has had time to close.
func (l *lives) closed(before map[string]int) {
	l.Helper()
	const more = 8 // of goroutines and files: those of connections of the command line to the service, which close when they are old
	grown := func() (words []string) {
		for what, n := range l.open() {
			if n > before[what]+map[bool]int{true: more}[what == "goroutines" || what == "files"] {
				words = append(words, fmt.Sprintf("%s: %d, and %d before", what, n, before[what]))
			}
		}
		return words
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(500 * time.Millisecond) {
		words := grown()
		if len(words) == 0 {
			return
		}
		if time.Now().After(end) {
			l.Errorf("what was opened stays open: %s", strings.Join(words, "; "))
			return
		}
	}
}
