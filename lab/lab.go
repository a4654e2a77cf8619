// Package lab builds small networks out of Linux network namespaces, with no
// way out of the machine, to hold what Dravin computes and renders against
// real kernels and daemons. It needs root.
package lab

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"dravin/lab/netns"
)

// Lab is a set of namespaces. Close it in the end.
type Lab struct {
	prefix string
	nodes  []*Node
	procs  []proc
}

// proc is a program that runs in a node.
type proc struct {
	*exec.Cmd
	in *Node
}

// Node is one namespace.
type Node struct {
	name string
	lab  *Lab
}

var labs atomic.Int32

// New makes an empty lab.
func New() (*Lab, error) {
	if os.Geteuid() != 0 {
		return nil, errors.New("network namespaces need root")
	}
	return &Lab{prefix: fmt.Sprintf("dravin%d-%d-", os.Getpid(), labs.Add(1))}, nil
}

// Close ends all processes and removes all namespaces.
func (l *Lab) Close() error {
	l.End(l.nodes...)
	var errs []error
	for _, n := range l.nodes {
		errs = append(errs, run("ip", "netns", "delete", n.name))
	}
	return errors.Join(errs...)
}

// End ends every program that runs in the nodes, by its id, with what it has started.
func (l *Lab) End(nodes ...*Node) {
	l.procs = slices.DeleteFunc(l.procs, func(p proc) bool {
		if !slices.Contains(nodes, p.in) {
			return false
		}
		_ = syscall.Kill(-p.Process.Pid, syscall.SIGTERM)
		dead := make(chan struct{})
		go func() { _ = p.Wait(); close(dead) }()
		select {
		case <-dead:
		case <-time.After(5 * time.Second):
			_ = syscall.Kill(-p.Process.Pid, syscall.SIGKILL)
			<-dead
		}
		return true
	})
}

// Node adds a namespace that forwards and has its loopback up.
func (l *Lab) Node(name string) (*Node, error) {
	n := &Node{name: l.prefix + name, lab: l}
	if err := run("ip", "netns", "add", n.name); err != nil {
		return nil, err
	}
	l.nodes = append(l.nodes, n)
	return n, n.Script(
		"ip link set lo up",
		"sysctl -qw net.ipv4.ip_forward=1 net.ipv4.conf.all.rp_filter=0 net.ipv4.conf.default.rp_filter=0",
	)
}

// Join lays a cable between two nodes and gives each end its device name and
// address.
func (l *Lab) Join(a *Node, deviceA, addressA string, b *Node, deviceB, addressB string) error {
	if err := run(
		"ip", "link", "add", deviceA, "netns", a.name, "type", "veth", "peer", "name", deviceB, "netns", b.name,
	); err != nil {
		return err
	}
	return errors.Join(
		a.Script("ip address add "+addressA+" dev "+deviceA, "ip link set "+deviceA+" up"),
		b.Script("ip address add "+addressB+" dev "+deviceB, "ip link set "+deviceB+" up"))
}

// Script runs shell commands in the node and stops at the first that fails.
func (n *Node) Script(lines ...string) error {
	_, err := n.Output(strings.Join(append([]string{"set -e"}, lines...), "\n"))
	return err
}

// Output runs a shell script in the node and returns what it prints.
func (n *Node) Output(script string) (string, error) {
	out, err := exec.Command("ip", "netns", "exec", n.name, "/bin/sh", "-c", script).CombinedOutput()
	if err != nil {
		return string(out), fmt.Errorf("in %s: %w: %s", n.name, err, strings.TrimSpace(string(out)))
	}
	return string(out), nil
}

// Start runs a program in the node until the lab is closed. It has a /run of
// its own, so that several of a kind do not meet.
func (n *Node) Start(env []string, logFile string, program ...string) error {
	log, err := os.Create(logFile)
	if err != nil {
		return err
	}
	defer log.Close()
	args := append(
		[]string{"netns", "exec", n.name, "/bin/sh", "-c", `mount -t tmpfs tmpfs /run && exec "$@"`, "sh"}, program...,
	)
	cmd := exec.Command("ip", args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	n.lab.procs = append(n.lab.procs, proc{cmd, n})
	return nil
}

// Do calls f on a thread that lives in the node's network namespace: sockets
// that f opens belong to the node.
func (n *Node) Do(f func() error) error {
	return netns.Do(n.name, f)
}

func run(program string, args ...string) error {
	out, err := exec.Command(program, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s %s: %w: %s", program, strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Name is the namespace's name.
func (n *Node) Name() string { return n.name }
