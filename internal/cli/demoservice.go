package cli

import (
	"github.com/spf13/cobra"

	"aditus/internal/demo"
)

func newDemoService() *cobra.Command {
	return &cobra.Command{
		Use: demo.ServiceCommand + " FILE", Hidden: true, Args: oneArg("file"),
		Short: "A made-up service that behaves as a file says",
		RunE:  func(cmd *cobra.Command, args []string) error { return demo.RunService(cmd.Context(), args[0]) },
	}
}
