package main

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"dravin/store"
)

func keysCommand() *cobra.Command {
	var out format
	var database, keyFile string
	var forget bool
	c := &cobra.Command{
		Use:   "keys",
		Short: "List the sealed pre-shared keys that a key file does not open; forget them if asked",
		Args:  exactly(0, "none"),
		RunE: func(c *cobra.Command, _ []string) error {
			if database == "" {
				return badInput(errors.New("no database; set DATABASE_URL or --database"))
			}
			db, err := store.Open(c.Context(), database)
			if err != nil {
				return err
			}
			defer db.Close()
			if forget {
				return forgetKeys(c, out, db, keyFile)
			}
			vault, unopened, err := db.OpenVault(c.Context(), keyFile)
			if err != nil {
				return err
			}
			if err := out.write(
				c, append([]store.Unopened{}, unopened...),
				func(w io.Writer) { printKeys(w, "can not be opened", unopened) },
			); err != nil {
				return err
			}
			if closed := vault.Closed(); closed != nil {
				return closed
			}
			if len(unopened) > 0 {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	c.Flags().StringVar(&database, "database", os.Getenv("DATABASE_URL"), "PostgreSQL address (default: DATABASE_URL)")
	c.Flags().StringVar(&keyFile, "key-file", ".dravin/key", "the key file")
	c.Flags().BoolVar(
		&forget, "forget", false,
		"delete the keys that it does not open, all if there is no such file, so that new ones can be made",
	)
	return c
}

func forgetKeys(c *cobra.Command, out format, db *store.Store, keyFile string) error {
	vault, err := store.ReadKeyFile(keyFile)
	if err != nil && !errors.Is(err, store.ErrNoKeyFile) {
		return badInput(err)
	}
	gone, err := db.ForgetKeys(c.Context(), vault)
	if err != nil {
		return err
	}
	return out.write(c, append([]store.Unopened{}, gone...), func(w io.Writer) { printKeys(w, "is forgotten", gone) })
}

func printKeys(w io.Writer, what string, keys []store.Unopened) {
	for _, k := range keys {
		fmt.Fprintf(w, "%s: %s\n", k, what)
	}
	if len(keys) == 0 {
		fmt.Fprintln(w, "every key is opened by this file")
	}
}
