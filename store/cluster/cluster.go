// Package cluster runs a private PostgreSQL cluster on loopback, for the demo
// and for tests. As root it runs as the postgres user, since PostgreSQL
// refuses to run as root.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Cluster is a running PostgreSQL.
type Cluster struct {
	URL string // for connecting

	bin, data string
	port      int
	as        *syscall.Credential // nil: as ourselves
}

// Start makes a cluster below dir, or starts the one that is there. A server
// that an earlier, killed process left running on it is stopped first.
func Start(ctx context.Context, dir string) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	c := &Cluster{bin: bin}
	if c.as, err = credential(); err != nil {
		return nil, err
	}
	if dir, err = c.place(dir); err != nil {
		return nil, err
	}
	c.data = filepath.Join(dir, "data")
	password, err := c.create(ctx, dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(c.data, "postmaster.pid")); err == nil {
		_ = c.Stop(ctx)
	}
	if c.port, err = freePort(); err != nil {
		return nil, err
	}
	c.URL = fmt.Sprintf("postgres://dravin:%s@127.0.0.1:%d/postgres?sslmode=disable", password, c.port)
	return c, c.Restart(ctx)
}

// Database is the address of another database of the cluster at url.
func Database(url, name string) string { return strings.Replace(url, "/postgres?", "/"+name+"?", 1) }

// Restart starts the server if it does not run, on the port it had.
func (c *Cluster) Restart(ctx context.Context) error {
	options := fmt.Sprintf(
		"-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories= -c logging_collector=off", c.port,
	)
	return c.run(
		ctx, "pg_ctl", "-D", c.data, "-l", filepath.Join(filepath.Dir(c.data), "postgres.log"), "-w", "-t", "60", "-o",
		options, "start",
	)
}

// Stop stops the server, breaking connections off.
func (c *Cluster) Stop(ctx context.Context) error {
	return c.run(ctx, "pg_ctl", "-D", c.data, "-w", "-m", "fast", "stop")
}

// Kill stops the server as a power cut would.
func (c *Cluster) Kill(ctx context.Context) error {
	return c.run(ctx, "pg_ctl", "-D", c.data, "-w", "-m", "immediate", "stop")
}

// Remove deletes what Start made for dir, wherever it was put.
func Remove(dir string) error {
	return errors.Join(os.RemoveAll(dir), os.RemoveAll(elsewhere(dir)))
}

// Freeze stops the server and all its connections from answering, as a machine
// that hangs would, until thaw is called.
func (c *Cluster) Freeze() (thaw func(), err error) {
	pids, err := c.processes()
	if err != nil {
		return nil, err
	}
	for _, pid := range pids {
		_ = syscall.Kill(pid, syscall.SIGSTOP)
	}
	return func() {
		for _, pid := range pids {
			_ = syscall.Kill(pid, syscall.SIGCONT)
		}
	}, nil
}

// processes are the postmaster and its children.
func (c *Cluster) processes() ([]int, error) {
	file, err := os.ReadFile(filepath.Join(c.data, "postmaster.pid"))
	if err != nil {
		return nil, err
	}
	first, _, _ := strings.Cut(string(file), "\n")
	parent, err := strconv.Atoi(first)
	if err != nil {
		return nil, err
	}
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", parent, parent))
	if err != nil {
		return nil, err
	}
	pids := []int{parent}
	for _, word := range strings.Fields(string(children)) {
		if pid, err := strconv.Atoi(word); err == nil {
			pids = append(pids, pid)
		}
	}
	return pids, nil
}

func binaries() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		if path, err := exec.LookPath("initdb"); err == nil {
			return filepath.Dir(path), nil
		}
		return "", errors.New(
			"PostgreSQL is not installed; install Debian's package postgresql, or set DATABASE_URL to a server",
		)
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	return filepath.Dir(found[0]), nil
}

func credential() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("there is no user postgres to run PostgreSQL as; install Debian's package postgresql")
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// place makes the folder of the cluster. Where the postgres user can not reach
// dir, as below /root, another is taken.
func (c *Cluster) place(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for _, d := range []string{dir, elsewhere(dir)} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return "", fmt.Errorf("making a place for PostgreSQL: %w", err)
		}
		if c.as == nil {
			return d, nil
		}
		if err := os.Chown(d, int(c.as.Uid), int(c.as.Gid)); err != nil {
			return "", fmt.Errorf("making a place for PostgreSQL: %w", err)
		}
		if c.command(context.Background(), "/bin/sh", "-c", `cd "$0" && test -w .`, d).Run() == nil {
			return d, nil
		}
	}
	return "", fmt.Errorf(
		"the user postgres can reach neither %s nor %s; set DATABASE_URL to a PostgreSQL server instead", dir,
		elsewhere(dir),
	)
}

func elsewhere(dir string) string {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	sum := sha256.Sum256([]byte(dir))
	return filepath.Join("/var/lib/dravin", hex.EncodeToString(sum[:6]))
}

// create initialises the cluster if needed and returns its password. A cluster
// counts as made once its password file has its final name.
func (c *Cluster) create(ctx context.Context, dir string) (string, error) {
	file := filepath.Join(dir, "password")
	if password, err := os.ReadFile(file); err == nil {
		return string(password), nil
	}
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails
	password := hex.EncodeToString(b)
	if err := os.RemoveAll(c.data); err != nil {
		return "", err
	}
	if err := os.WriteFile(file+".new", []byte(password), 0o600); err != nil {
		return "", err
	}
	if c.as != nil {
		if err := os.Chown(file+".new", int(c.as.Uid), int(c.as.Gid)); err != nil {
			return "", err
		}
	}
	err := c.run(
		ctx, "initdb", "-D", c.data, "-U", "dravin", "--auth=scram-sha-256", "--pwfile="+file+".new", "-E", "UTF8",
		"--locale=C.UTF-8", "--no-instructions",
	)
	if err != nil {
		return "", err
	}
	return password, os.Rename(file+".new", file)
}

func (c *Cluster) run(ctx context.Context, name string, args ...string) error {
	// pg_ctl's server keeps what it inherits open, so output goes to a file.
	out, err := os.CreateTemp("", "dravin-pg-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd := c.command(ctx, filepath.Join(c.bin, name), args...)
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(out.Name())
		lines := bytes.Split(bytes.TrimSpace(said), []byte{'\n'})
		return fmt.Errorf("PostgreSQL's %s failed (%w): %s", name, err, lines[len(lines)-1])
	}
	return nil
}

func (c *Cluster) command(ctx context.Context, path string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir = "/"
	cmd.WaitDelay = 5 * time.Second
	// A terminal's Ctrl-C is for us; we stop the server ourselves.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: c.as}
	return cmd
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
