package cli

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/socket"
	"aditus/internal/target/containers"
	"aditus/internal/target/containers/agent"
)

// linkWait is how long an agent that is starting is waited for.
const linkWait = 30 * time.Second

func newAgent() *cobra.Command {
	var folder string
	var a containers.Agent
	var link bool
	cmd := &cobra.Command{
		Use:   "agent",
		Short: "Work on a container host; started by itself where it is needed",
		Long: `Works on the machine of a container engine, in a container that the server makes there: it
runs the keeper and the router of the sites that it is told of, and goes on when the server
ends or cannot reach it. The server starts one where a site's engine is on another machine.

With --link it leads its standard input and output to the one that runs.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			if link {
				return leadTo(cmd.Context(), filepath.Join(folder, agent.SocketFile), cmd.InOrStdin(), cmd.OutOrStdout())
			}
			a.Folder, a.Log = folder, slog.New(slog.NewTextHandler(os.Stderr, nil))
			return containers.Work(cmd.Context(), a)
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().StringVar(&a.Engine, "engine", "", "the `address` of the machine's container engine")
	cmd.Flags().BoolVar(&link, "link", false, "lead standard input and output to the agent that runs")
	programFlag(cmd, &a.Program)
	return cmd
}

// leadTo leads what is read to a socket, and what comes from there to what is written, until either ends.
func leadTo(ctx context.Context, socketName string, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithTimeout(ctx, linkWait)
	defer cancel()
	conn, err := socket.Transport(socketName, linkWait).DialContext(ctx, "", "")
	if err != nil {
		return err
	}
	defer conn.Close()
	ended := make(chan error, 2)
	go func() {
		_, err := io.Copy(conn, in)
		ended <- err
	}()
	go func() {
		_, err := io.Copy(out, conn)
		ended <- err
	}()
	return <-ended
}
