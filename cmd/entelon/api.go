package main

import (
	"github.com/spf13/cobra"

	"entelon/server"
)

func apiCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "api",
		Short:   "Print the OpenAPI description of the server's interface",
		Example: `  entelon api > openapi.json`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b, err := server.Description()
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(append(b, '\n'))
			return err
		},
	}
}
