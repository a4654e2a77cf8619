package stage

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// startWithin is how long a service may take until it says that it is ready, as systemd has it.
const startWithin = 90 * time.Second

// service is a unit that has been started.
type service struct {
	*unit
	in   *node
	tell func(text string)
	end  context.CancelFunc
	wg   sync.WaitGroup
}

// vendors are the units that the daemons' packages bring, by what of the handed-over files they read.
var vendors = map[string]string{"strongswan.service": "swanctl/conf.d/dravin.conf", "bird.service": "bird/bird.conf"}

// units are those of a node that start at boot, and those that are there and that nothing starts.
func (n *node) units() (starts, idle []*unit, err error) {
	var out []*unit
	own, err := filepath.Glob(filepath.Join(n.dir, "etc/systemd/system/*.service"))
	if err != nil {
		return nil, nil, err
	}
	for name, file := range vendors {
		if n.has(file) {
			own = append(own, filepath.Join("/usr/lib/systemd/system", name))
		}
	}
	for _, path := range own {
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, nil, err
		}
		u, err := readUnit(filepath.Base(path), string(text))
		if err != nil {
			return nil, nil, err
		}
		out = append(out, u)
	}
	starts, err = ordered(started(out))
	return starts, slices.DeleteFunc(out, func(u *unit) bool { return slices.Contains(starts, u) }), err
}

// boot starts what the node's units say, in their order. A unit that fails is told of, and those after it are started
// all the same, since they only want it.
func (n *node) boot(ctx context.Context, tell func(text string)) error {
	units, idle, err := n.units()
	if err != nil {
		return fmt.Errorf("%s: %w", n.Title, err)
	}
	for _, u := range idle {
		tell(u.name + ": nothing enables it; it is not started")
	}
	for _, u := range units {
		met, err := u.met(fmt.Sprintf("/proc/%d/root", n.holder.Pid))
		if err != nil {
			return err
		}
		if !met {
			tell(u.name + ": its conditions are not met; it is not started")
			continue
		}
		own, end := context.WithCancel(ctx)
		s := &service{unit: u, in: n, tell: tell, end: end}
		n.mu.Lock()
		n.services = append(n.services, s)
		n.mu.Unlock()
		if err := s.begin(own); err != nil {
			tell(u.name + ": " + err.Error())
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// halt ends all services of a node, as a power cut would.
func (n *node) halt() {
	n.mu.Lock()
	list := n.services
	n.services = nil
	n.mu.Unlock()
	for _, s := range list {
		s.end()
	}
	for _, s := range list {
		s.wg.Wait()
	}
}

// begin starts the service and returns when systemd would take it for started.
func (s *service) begin(ctx context.Context) error {
	for _, line := range s.pre {
		if err := s.once(ctx, line); err != nil {
			return err
		}
	}
	if s.kind == "oneshot" {
		for _, line := range s.start {
			if err := s.once(ctx, line); err != nil {
				return err
			}
		}
		return nil
	}
	if len(s.start) != 1 {
		return errors.New("a service has one ExecStart")
	}
	ready := make(chan struct{})
	var once sync.Once
	isReady := func() { once.Do(func() { close(ready) }) }
	socket := ""
	switch s.kind {
	case "notify":
		listener, err := s.listens(isReady)
		if err != nil {
			return err
		}
		defer listener.Close()
		socket = notifySocket
	case "simple", "exec":
		isReady()
	default:
		return fmt.Errorf("its Type=%s is not followed", s.kind)
	}
	s.wg.Go(func() { s.run(ctx, socket) })
	select {
	case <-ready:
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(startWithin):
		return errors.New("it did not say that it is ready")
	}
	for _, line := range s.post {
		if err := s.once(ctx, line); err != nil {
			return err
		}
	}
	return nil
}

const notifySocket = "/run/notify"

// listens hears the service say that it is ready (sd_notify(3)).
func (s *service) listens(ready func()) (*net.UnixConn, error) {
	path := s.in.root(notifySocket)
	_ = os.Remove(path)
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		return nil, err
	}
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := l.Read(buf)
			if err != nil {
				return
			}
			if strings.Contains(string(buf[:n]), "READY=1") {
				ready()
			}
		}
	}()
	return l, nil
}

// run keeps the service running as its unit says.
func (s *service) run(ctx context.Context, socket string) {
	for ctx.Err() == nil {
		cmd, err := s.command(ctx, s.start[0])
		if err == nil {
			if socket != "" {
				cmd.Env = append(cmd.Env, "NOTIFY_SOCKET="+socket)
			}
			out := &logged{tell: func(line string) { s.tell(s.name + ": " + line) }}
			cmd.Stdout, cmd.Stderr = out, out
			err = cmd.Run()
		}
		if ctx.Err() != nil {
			return
		}
		s.tell(fmt.Sprintf("%s: it has ended: %v", s.name, err))
		var exit *exec.ExitError
		died := errors.As(err, &exit) && exit.ProcessState.ExitCode() < 0
		switch s.restart {
		case "always":
		case "on-abort", "on-abnormal":
			if !died {
				return
			}
		case "on-failure":
			if err == nil {
				return
			}
		default:
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(s.pause, 100*time.Millisecond)):
		}
	}
}

// once runs a line and waits for its end.
func (s *service) once(ctx context.Context, line string) error {
	cmd, err := s.command(ctx, line)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	if text := strings.TrimSpace(out.String()); text != "" {
		s.tell(s.name + ": " + text)
	}
	if err != nil && strings.HasPrefix(line, "-") {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s: %w", line, err)
	}
	return nil
}

// command is what a line of a unit runs.
func (s *service) command(ctx context.Context, line string) (*exec.Cmd, error) {
	environ := map[string]string{}
	var list []string
	for _, file := range s.environ {
		path, may := strings.CutPrefix(file, "-")
		text, err := os.ReadFile(s.in.root(path))
		if err != nil && !may {
			return nil, err
		}
		list = append(list, strings.Split(string(text), "\n")...)
	}
	for _, v := range append(list, s.variables...) {
		if name, value, ok := strings.Cut(strings.TrimSpace(v), "="); ok && !strings.HasPrefix(name, "#") {
			environ[name] = value
		}
	}
	var words []string
	for _, w := range strings.Fields(strings.TrimLeft(line, "-@+!:")) {
		switch {
		case strings.HasPrefix(w, "${"):
			words = append(words, environ[strings.Trim(w, "${}")])
		case strings.HasPrefix(w, "$"):
			words = append(words, strings.Fields(environ[w[1:]])...)
		default:
			words = append(words, w)
		}
	}
	cmd := s.in.asAdmin(s.in.command(ctx, words[0], words[1:]...))
	for name, value := range environ {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	// A daemon ends as at a power cut, with all that it has started.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	return cmd, nil
}

// logged tells what is written to it, line by line.
type logged struct {
	tell func(line string)
	rest []byte
}

func (l *logged) Write(p []byte) (int, error) {
	l.rest = append(l.rest, p...)
	for {
		n := bytes.IndexByte(l.rest, '\n')
		if n < 0 {
			return len(p), nil
		}
		l.tell(string(l.rest[:n]))
		l.rest = l.rest[n+1:]
	}
}
