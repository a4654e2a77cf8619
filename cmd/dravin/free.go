package main

import (
	"fmt"
	"io"
	"net/netip"

	"github.com/spf13/cobra"

	"dravin/core/prefix"
)

func freeCommand() *cobra.Command {
	var out format
	var size, most int
	var within, parties []string
	var roomy bool
	c := &cobra.Command{
		Use:   "free FILE --size 24 --within 10.0.0.0/8",
		Short: "Find free ranges of a size; exit 1 if there is none",
		Args:  exactly(1, "one design or CSV file"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := readStock(args[0])
			if err != nil {
				return err
			}
			used, err := s.used(parties)
			if err != nil {
				return badInput(err)
			}
			found, err := freeWithin(within, used, size, most, roomy)
			if err != nil {
				return badInput(err)
			}
			if err := out.write(c, found, func(w io.Writer) { printFree(w, found, size) }); err != nil {
				return err
			}
			if len(found) == 0 {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	c.Flags().IntVar(&size, "size", 24, "prefix length wanted")
	c.Flags().StringSliceVar(&within, "within", []string{"10.0.0.0/8"}, "allowed ranges")
	c.Flags().StringSliceVar(&parties, "for", nil, "unused by these parties is enough; default: unused by all")
	c.Flags().BoolVar(
		&roomy, "roomy", false, "begin with the largest free blocks, where it can grow, instead of the best fit",
	)
	c.Flags().IntVar(&most, "most", 5, "how many to list")
	return c
}

// freeWithin looks through the allowed ranges, one after the other.
func freeWithin(within []string, used []netip.Prefix, size, most int, roomy bool) ([]prefix.Candidate, error) {
	found := []prefix.Candidate{}
	for _, text := range within {
		allowed, err := prefix.Parse(text)
		if err != nil {
			return nil, fmt.Errorf("--within: %w", err)
		}
		if size < allowed.Bits() || size > allowed.Addr().BitLen() {
			return nil, fmt.Errorf(
				"--size %d does not fit into %s; give a length from %d to %d", size, allowed, allowed.Bits(),
				allowed.Addr().BitLen(),
			)
		}
		space := prefix.NewSpace([]netip.Prefix{allowed}, used)
		search := space.Fits
		if roomy {
			search = space.Roomy
		}
		found = append(found, search(allowed, size, most-len(found))...)
	}
	return found, nil
}

func printFree(w io.Writer, found []prefix.Candidate, size int) {
	if len(found) == 0 {
		fmt.Fprintf(w, "No free /%d is left there.\n", size)
	}
	for _, f := range found {
		fmt.Fprintf(w, "%-18s begins the free block %s; room for %d more of its size\n", f.Prefix, f.Block, f.Room())
	}
}
