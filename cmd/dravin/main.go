// Command dravin plans and proves hybrid networks. See dravin help.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"dravin/lab/stage"
)

// Exit codes.
const (
	exitFound = 1 // something wrong was found, or a server could not start
	exitInput = 2 // the input or the command line can not be used
)

// errFound is returned when the command did its work and found something wrong.
var errFound = errors.New("found something wrong")

// inputError marks what the caller gave as unusable.
type inputError struct{ error }

func badInput(err error) error { return inputError{err} }

func main() {
	if len(os.Args) == 2 && os.Args[1] == stage.Inside {
		if err := stage.PlayInside(context.Background(), os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(exitFound)
		}
		return
	}
	root := &cobra.Command{
		Use: "dravin",
		Short: "Design links between sites and clouds, find colliding prefixes, prove that packets get there " +
			"and back",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return badInput(fmt.Errorf("unknown command %q; dravin help lists them", args[0]))
			}
			return c.Help()
		},
	}
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return badInput(err) })
	root.AddCommand(
		checkCommand(), overlapsCommand(), freeCommand(), importCommand(), sayCommand(), builtCommand(),
		plannedCommand(), diffCommand(), profileCommand(),
		walkCommand(), matrixCommand(), intentsCommand(), drillCommand(), rehearseCommand(),
		runbookCommand(), bundleCommand(), modelCommand(),
		routesCommand(), planCommand(),
		ledgerCommand(), statusCommand(), passesCommand(),
		filtersCommand(), handoverCommand(),
		keysCommand(), serveCommand(), demoCommand(),
	)
	err := root.Execute()
	var input inputError
	switch {
	case err == nil:
	case errors.Is(err, errFound):
		os.Exit(exitFound)
	case errors.As(err, &input):
		fmt.Fprintln(os.Stderr, "dravin:", err)
		os.Exit(exitInput)
	default:
		fmt.Fprintln(os.Stderr, "dravin:", err)
		os.Exit(exitFound)
	}
}

// exactly wants n arguments and calls anything else bad input.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != n {
			return badInput(fmt.Errorf("%d arguments given; give %s", len(args), what))
		}
		return nil
	}
}
