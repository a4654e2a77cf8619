package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// channel is where changes are announced to all servers of a database.
const channel = "dravin"

// Notice says that a design has reached a position.
type Notice struct {
	Design   string `json:"design"`
	Position int64  `json:"position"`
}

// Listen calls heard for every change in the database at url, whoever made it,
// until ctx ends. When the connection is lost it is made again; lost is then
// called, since changes may have been missed.
func Listen(ctx context.Context, url string, heard func(Notice), lost func(error)) {
	for wait := time.Second / 4; ctx.Err() == nil; wait = min(2*wait, 5*time.Second) {
		err := listen(ctx, url, heard, func() { wait = time.Second / 4 })
		if ctx.Err() != nil {
			return
		}
		lost(err)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

func listen(ctx context.Context, url string, heard func(Notice), connected func()) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "listen "+channel); err != nil {
		return err
	}
	connected()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var notice Notice
		if _, err := fmt.Sscanf(n.Payload, "%s %d", &notice.Design, &notice.Position); err == nil {
			heard(notice)
		}
	}
}
