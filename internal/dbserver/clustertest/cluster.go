// Package clustertest runs a MariaDB Galera cluster of three nodes on loopback,
// for tests of what several services on several nodes do to each other.
package clustertest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
)

// Nodes is how many there are: the least of which one can be lost.
const Nodes = 3

// Cluster is a running cluster. Its nodes are counted from 0.
type Cluster struct {
	dir   string
	net   string // the first three parts of the nodes' addresses
	nodes [Nodes]*exec.Cmd
}

const provider = "/usr/lib/galera/libgalera_smm.so"

// Start starts a cluster that ends with the test.
func Start(t testing.TB) *Cluster {
	t.Helper()
	if _, err := os.Stat(provider); err != nil {
		t.Fatalf("the cluster's library is not installed (Debian: apt-get install galera-4 rsync): %v", err)
	}
	dir, err := os.MkdirTemp("", "gc")
	if err != nil {
		t.Fatal(err)
	}
	c := &Cluster{dir: dir, net: fmt.Sprintf("127.%d.%d", 50+os.Getpid()%150, os.Getpid()/150%250)}
	t.Cleanup(func() {
		for i := range c.nodes {
			c.Kill(i)
		}
		os.RemoveAll(dir)
	})
	// The transfer of a joining node's state does not work as root.
	owner, uid, gid := "mysql", 0, 0
	if u, err := user.Lookup(owner); err == nil && os.Geteuid() == 0 {
		uid, _ = strconv.Atoi(u.Uid)
		gid, _ = strconv.Atoi(u.Gid)
	} else if u, err := user.Current(); err == nil {
		owner, uid, gid = u.Username, os.Getuid(), os.Getgid()
	}
	if err := errors.Join(os.Chmod(dir, 0o755), os.Chown(dir, uid, gid)); err != nil {
		t.Fatal(err)
	}
	for i := range Nodes {
		if err := errors.Join(os.MkdirAll(c.folder(i), 0o700), os.Chown(c.folder(i), uid, gid)); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(c.folder(i)+".cnf", []byte(c.config(i, owner)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("mariadb-install-db", "--no-defaults", "--user="+owner, "--datadir="+c.folder(0),
		"--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve",
		"--innodb-log-file-size=8M").CombinedOutput(); err != nil {
		t.Fatalf("mariadb-install-db: %v: %s", err, out)
	}
	for i := range Nodes { // one after the other: two that join at once wait for each other
		c.Run(t, i)
	}
	c.ask(t, 0, "CREATE DATABASE roost CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	return c
}

func (c *Cluster) folder(i int) string { return filepath.Join(c.dir, fmt.Sprintf("n%d", i)) }

func (c *Cluster) config(i int, owner string) string {
	at := fmt.Sprintf("%s.%d", c.net, i+1)
	var all []string
	for j := range Nodes {
		all = append(all, fmt.Sprintf("%s.%d:4567", c.net, j+1))
	}
	d := c.folder(i)
	return fmt.Sprintf(`[mysqld]
user=%[1]s
datadir=%[2]s
socket=%[2]s/s
pid_file=%[2]s/pid
log_error=%[2]s.log
bind_address=%[3]s
port=3306
skip_name_resolve=ON
binlog_format=ROW
default_storage_engine=InnoDB
innodb_autoinc_lock_mode=2
innodb_flush_log_at_trx_commit=0
innodb_buffer_pool_size=64M
innodb_log_file_size=8M
performance_schema=OFF
max_allowed_packet=64M
wsrep_on=ON
wsrep_provider=%[4]s
wsrep_cluster_name=roost-test
wsrep_cluster_address=gcomm://%[5]s
wsrep_node_name=n%[6]d
wsrep_node_address=%[3]s
wsrep_node_incoming_address=%[3]s:3306
wsrep_provider_options="gmcast.listen_addr=tcp://%[3]s:4567;ist.recv_addr=%[3]s:4568;gcache.size=32M;evs.keepalive_period=PT0.5S;evs.suspect_timeout=PT2S;evs.inactive_timeout=PT4S;evs.install_timeout=PT4S"
wsrep_sst_method=rsync
wsrep_sst_receive_address=%[3]s:4444
wsrep_slave_threads=2
`, owner, d, at, provider, strings.Join(all, ","), i)
}

// Run starts a node, and waits until it is part of the cluster. The first one makes it.
func (c *Cluster) Run(t testing.TB, i int) {
	t.Helper()
	args := []string{"--defaults-file=" + c.folder(i) + ".cnf"}
	if i == 0 && c.nodes[1] == nil {
		args = append(args, "--wsrep-new-cluster")
	}
	c.nodes[i] = exec.Command("mariadbd", args...)
	c.nodes[i].SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := c.nodes[i].Start(); err != nil {
		t.Fatal(err)
	}
	db := c.open(t, i)
	defer db.Close()
	for range 200 {
		var name, state string
		if db.QueryRow("SHOW STATUS LIKE 'wsrep_local_state_comment'").Scan(&name, &state) == nil && state == "Synced" {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	for j := range Nodes {
		b, _ := os.ReadFile(c.folder(j) + ".log")
		for line := range strings.Lines(string(b)) {
			if strings.Contains(line, "rror") {
				t.Logf("node %d: %s", j, line)
			}
		}
	}
	t.Fatalf("node %d does not join", i)
}

// Kill ends a node at once, as a power cut does.
func (c *Cluster) Kill(i int) {
	if c.nodes[i] != nil && c.nodes[i].ProcessState == nil {
		_ = c.nodes[i].Process.Kill()
		_ = c.nodes[i].Wait()
	}
}

// DSN is a node's address for the driver.
func (c *Cluster) DSN(i int) string { return "root@unix(" + c.folder(i) + "/s)/roost" }

func (c *Cluster) open(t testing.TB, i int) *sql.DB {
	db, err := sql.Open("mysql", "root@unix("+c.folder(i)+"/s)/")
	if err != nil {
		t.Fatal(err)
	}
	return db
}

func (c *Cluster) ask(t testing.TB, i int, statement string) {
	t.Helper()
	db := c.open(t, i)
	defer db.Close()
	if _, err := db.ExecContext(context.Background(), statement); err != nil {
		t.Fatal(err)
	}
}
