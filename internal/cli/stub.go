package cli

import (
	"aditus/internal/ledger"
	"context"
	"fmt"
	"github.com/spf13/cobra"
	"strings"
)

func newStatus() *cobra.Command                                                  { return &cobra.Command{Use: "status"} }
func newDraw() *cobra.Command                                                    { return &cobra.Command{Use: "draw"} }
func newCheck() *cobra.Command                                                   { return &cobra.Command{Use: "check"} }
func newSchema() *cobra.Command                                                  { return &cobra.Command{Use: "schema"} }
func newVersion() *cobra.Command                                                 { return &cobra.Command{Use: "version"} }
func runDemo(ctx context.Context, folder string, speed float64, anew bool) error { return nil }
func drawWatch(b *ledger.Ledger, id ledger.Berth, f string) error                { return nil }
func factLine(f ledger.Fact) string {
	return fmt.Sprintf("%s  %-18s %-12s %s", f.At.UTC().Format("15:04:05"), strings.Trim(f.Workload+" · "+f.Site, " ·"), f.Kind, f.Text)
}

var _ = oneArg
