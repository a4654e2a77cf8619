package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// channel carries a notice for every committed change.
const channel = "dravin"

// Notice says that a design has come to a position. Position is 0 where it is
// not known.
type Notice struct {
	Design   string `json:"design"`
	Position int64  `json:"position"`
}

// quiet is how long nothing may be heard before the connection is tried: one that
// a firewall or a frozen machine has cut says nothing either.
var quiet = 15 * time.Second

// Listen calls heard for every change that any server commits, until ctx ends.
// It connects again whenever the connection is lost, after calling lost. Each
// time that it begins to listen it calls listening: what was committed before is
// not told, so whoever shows something must look again.
func Listen(ctx context.Context, url string, heard func(Notice), listening func(), lost func(error)) {
	const least = time.Second / 4
	wait := least
	for ctx.Err() == nil {
		err := listen(ctx, url, heard, func() { wait = least; listening() })
		if ctx.Err() != nil {
			return
		}
		lost(err)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

func listen(ctx context.Context, url string, heard func(Notice), listening func()) error {
	c, err := config(url, readLimit)
	if err != nil {
		return err
	}
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = conn.Close(ending)
	}()
	if err := exec(ctx, conn, "listen "+channel); err != nil {
		return err
	}
	listening()
	for {
		waiting, cancel := context.WithTimeout(ctx, quiet)
		n, err := conn.WaitForNotification(waiting)
		cancel()
		switch {
		case err == nil:
			var notice Notice
			if _, err := fmt.Sscanf(n.Payload, "%s %d", &notice.Design, &notice.Position); err == nil {
				heard(notice)
			}
		case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
			if err := exec(ctx, conn, "select 1"); err != nil {
				return err
			}
		default:
			return err
		}
	}
}

func exec(ctx context.Context, conn *pgx.Conn, statement string) error {
	limited, cancel := context.WithTimeout(ctx, answerLimit)
	defer cancel()
	_, err := conn.Exec(limited, statement)
	return err
}
