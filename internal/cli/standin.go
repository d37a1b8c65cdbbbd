package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/target/sim"
)

func newStandIn() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "stand-in BERTH/PART FIELD=VALUE",
		Short: "Change a stand-in site by hand, as a person there would",
		Long: `Changes what is live at a stand-in site behind Aditus' back, to see what becomes of
it. Fields are instances, artifact, environment.NAME and values.NAME; gone takes the
part away. A part that is not there is made.`,
		Example: `  aditus stand-in tides/isles/gauge instances=5
  aditus stand-in tides/isles/gauge environment.LOG_LEVEL=debug
  aditus stand-in tides/isles/gauge gone`,
		Args: twoArgs("BERTH/PART and FIELD=VALUE"),
		RunE: func(_ *cobra.Command, args []string) error {
			names := strings.Split(args[0], "/")
			if len(names) != 3 {
				return usageError{fmt.Errorf("%q is no part of a berth: write WORKLOAD/SITE/PART", args[0])}
			}
			field, value, _ := strings.Cut(args[1], "=")
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			sites := filepath.Join(folder, sim.Folder)
			if _, err := os.Stat(filepath.Join(sites, names[1])); err != nil {
				return fmt.Errorf("there is no stand-in site %s in %s with anything on it", names[1], folder)
			}
			return sim.LeaveHand(sites, names[1], sim.Hand{Workload: names[0], Part: names[2], Field: field, Value: value})
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}
