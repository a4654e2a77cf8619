// Package stage builds the plan of a rehearsal on this machine and plays it: namespaces, real daemons and real packets.
//
// All of it happens in a process of its own, the first of its PID, mount and network namespaces. Nothing that it makes
// is seen by the rest of the machine, and when it ends, however it ends, the kernel ends and removes everything that it
// made: processes, namespaces, mounts. It ends when whoever started it does. No way leads out of it.
package stage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"dravin/lab/netns"
)

// Programs are what a rehearsal needs of the machine.
var Programs = []string{
	"ip", "nft", "sysctl", "mount", "nsenter", "setpriv", "ping", "socat", "/usr/sbin/charon-systemd", "/usr/sbin/swanctl",
	"/usr/sbin/bird",
}

// Packages are those of Debian that have them.
const Packages = "iproute2 nftables procps mount util-linux iputils-ping socat charon-systemd strongswan-swanctl " +
	"libcharon-extra-plugins libstrongswan-standard-plugins bird2"

// Possible says why this machine can not rehearse, in a sentence; nil if it can.
func Possible() error {
	var missing []string
	for _, p := range Programs {
		if _, err := exec.LookPath(p); err != nil {
			missing = append(missing, p)
		}
	}
	switch {
	case runtime.GOOS != "linux":
		return errors.New("a rehearsal needs Linux")
	case os.Geteuid() != 0:
		return errors.New("network namespaces need root, and this process has it not")
	case len(missing) > 0:
		return fmt.Errorf("%s: not found; apt-get install %s", strings.Join(missing, ", "), Packages)
	}
	if err := exec.Command("unshare", "--net", "--mount", "--pid", "--fork", "true").Run(); err != nil {
		return fmt.Errorf("this machine lets nobody make namespaces: %w", err)
	}
	return nil
}

// Alone runs this program again with other arguments in namespaces of its own, and waits for it. What it has made is
// gone when Alone returns, and also when this process is killed. started, if not nil, hears its process ID.
func Alone(ctx context.Context, in io.Reader, out, errs io.Writer, started func(pid int), args ...string) error {
	done := make(chan error, 1)
	go func() {
		// The signal of a parent's death is that of the thread which has started the process.
		runtime.LockOSThread()
		cmd := exec.CommandContext(ctx, "/proc/self/exe", args...)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, errs
		cmd.SysProcAttr = &syscall.SysProcAttr{
			Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC |
				syscall.CLONE_NEWUTS,
			Pdeathsig: syscall.SIGKILL,
		}
		err := cmd.Start()
		if err == nil {
			in := confine(cmd.Process.Pid, int(mostShare*float64(available())))
			if started != nil {
				started(cmd.Process.Pid)
			}
			err = cmd.Wait()
			in.remove()
		}
		done <- err
	}()
	return <-done
}

// work is where the stage keeps its files: in memory, and nobody else's.
const work = "/run/stage"

// enter makes the mounts of the process its own: what is the machine's is only read, and what is written is in memory.
func enter() error {
	if os.Getpid() != 1 {
		return errors.New("a stage is set up in namespaces of its own only")
	}
	if err := unix.Mount("none", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("making all mounts private: %w", err)
	}
	if err := readOnly(); err != nil {
		return err
	}
	for _, m := range []struct {
		source, target, kind string
		flags                uintptr
		data                 string
	}{
		{"proc", "/proc", "proc", 0, ""},
		{"stage", "/run", "tmpfs", 0, "mode=0755,size=50%"},
		{"stage", "/tmp", "tmpfs", 0, "mode=1777,size=10%"},
	} {
		if err := unix.Mount(m.source, m.target, m.kind, m.flags, m.data); err != nil {
			return fmt.Errorf("mounting %s: %w", m.target, err)
		}
	}
	return errors.Join(os.MkdirAll(netns.Dir, 0o755), os.MkdirAll(work, 0o755))
}
