package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/design"
)

// profiled is what the profile command says.
type profiled struct {
	Name string `json:"name"`
	Into string `json:"into,omitempty"`
}

func profileCommand() *cobra.Command {
	var out format
	var into string
	c := &cobra.Command{
		Use:   "profile FILE.yaml [--into DESIGN.yaml]",
		Short: "Check a provider profile, and put it into a design file if asked",
		Args:  exactly(1, "one profile file"),
		RunE: func(c *cobra.Command, args []string) error {
			file, err := readFile(args[0])
			if err != nil {
				return badInput(err)
			}
			name, p, err := design.ReadProfile(file)
			if err != nil {
				return badInput(fmt.Errorf("%s can not be used\n%w", args[0], err))
			}
			if into != "" {
				if err := putProfile(into, name, p); err != nil {
					return err
				}
			}
			return out.write(c, profiled{name, into}, func(w io.Writer) {
				fmt.Fprintf(w, "%s can be used.\n", name)
				if into != "" {
					fmt.Fprintf(w, "It is in %s now.\n", into)
				}
			})
		},
	}
	out.add(c)
	c.Flags().StringVar(&into, "into", "", "the design file that it goes into; one of the same name is replaced")
	return c
}

// putProfile puts a profile into a design file, in the place of one of its name.
func putProfile(into, name string, p *design.Profile) error {
	d, err := readDesign(into)
	if err != nil {
		return err
	}
	o := &design.Object{ID: design.IDFor(design.KindProfile, name), Kind: design.KindProfile, Name: name, Body: p}
	for _, have := range d.Of(design.KindProfile) {
		if design.Slug(have.Name) == design.Slug(name) {
			o.ID = have.ID
		}
	}
	if d, _, err = d.Apply([]design.Edit{design.PutEdit(o)}); err != nil {
		return badInput(err)
	}
	return replace(into, d)
}
