package main

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"dravin/core/topology"
)

func modelCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "model FILE.yaml",
		Short: "The estate as the model of network topologies (RFC 8345), in JSON",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := readDesign(args[0])
			if err != nil {
				return err
			}
			out := json.NewEncoder(c.OutOrStdout())
			out.SetIndent("", "  ")
			return out.Encode(topology.Model(d))
		},
	}
}
