package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/demo"
	"dravin/store"
	"dravin/store/cluster"
)

func demoCommand() *cobra.Command {
	s := serving{}
	var state string
	var reset bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Serve the demo estate from a private PostgreSQL cluster (or from DATABASE_URL)",
		Args:  exactly(0, "none"),
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, stop := untilSignal(c.Context())
			defer stop()
			return runDemo(ctx, c, s, state, reset)
		},
	}
	s.flags(c)
	c.Flags().StringVar(&state, "state", ".dravin", "folder for the cluster, the key and the log")
	c.Flags().BoolVar(&reset, "reset", false, "forget everything that was edited, then stop")
	return c
}

func runDemo(ctx context.Context, c *cobra.Command, s serving, state string, reset bool) error {
	unlock, err := lock(state)
	if err != nil {
		return err
	}
	defer unlock()
	if reset {
		return forget(state)
	}
	l, err := s.listen(s.address, "--listen")
	if err != nil {
		return err
	}
	defer l.Close()
	if s.database = os.Getenv("DATABASE_URL"); s.database == "" {
		pg, err := cluster.Start(ctx, filepath.Join(state, "postgres"))
		if err != nil {
			return err
		}
		defer stopCluster(ctx, c, pg)
		s.database = pg.URL
	}
	logs, err := os.OpenFile(filepath.Join(state, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logs.Close()
	s.logs, s.says = logs, c.ErrOrStderr()
	s.keyFile = filepath.Join(state, "key")
	s.ready = func(ctx context.Context, db *store.Store, url string) error {
		if err := loadDemo(ctx, db); err != nil {
			return err
		}
		fmt.Fprintf(c.OutOrStdout(), "\nDravin is ready at %s (Ctrl-C stops it; what you change is kept)\n\n", url)
		return nil
	}
	return s.runOn(ctx, l)
}

// lock keeps two demos off one folder.
func lock(state string) (func(), error) {
	if err := os.MkdirAll(state, 0o755); err != nil {
		return nil, fmt.Errorf("making %s: %w", state, err)
	}
	f, err := os.OpenFile(filepath.Join(state, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, errors.New("a Dravin demo runs from this folder already; end it first")
	}
	return func() { f.Close() }, nil
}

func forget(state string) error {
	return errors.Join(
		cluster.Remove(filepath.Join(state, "postgres")), os.RemoveAll(filepath.Join(state, "key")),
		os.RemoveAll(filepath.Join(state, "server.log")),
	)
}

func stopCluster(ctx context.Context, c *cobra.Command, pg *cluster.Cluster) {
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	if err := pg.Stop(ending); err != nil {
		fmt.Fprintln(c.ErrOrStderr(), "dravin:", err)
		return
	}
	fmt.Fprintln(c.OutOrStdout(), "Dravin and its database have stopped.")
}

// loadDemo puts the demo estate into a database without designs.
func loadDemo(ctx context.Context, db *store.Store) error {
	list, err := db.List(ctx)
	if err != nil || len(list) > 0 {
		return err
	}
	d, err := design.Read(demo.Thistledown)
	if err != nil {
		return err
	}
	_, err = db.Create(ctx, d)
	return err
}
