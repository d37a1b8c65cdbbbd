package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/backup"
	"aditus/internal/disk"
	"aditus/internal/ledger"
)

func newBackup() *cobra.Command {
	var folder string
	var check bool
	cmd := &cobra.Command{
		Use:   "backup [FILE]",
		Short: "Make one file of all that is needed to go on elsewhere",
		Long: `Makes one file, a gzipped tar, of a data folder: the ledger, settings, key, credentials and
tokens, and what sites were asked to run; with a checksum of each. It may be made at any time,
while Aditus works too. Artifacts, copies of repositories, logs and what volumes hold are not
in it. Whoever has the file can read its secrets. FILE is - for standard output.`,
		Example: "  aditus backup /mnt/safe/line.tar.gz\n  aditus backup --check /mnt/safe/line.tar.gz\n  aditus restore /mnt/safe/line.tar.gz --data /srv/aditus",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			if check {
				return checkBackup(cmd.OutOrStdout(), name)
			}
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			if name == "-" {
				_, err := backup.Write(folder, cmd.OutOrStdout(), time.Now())
				return err
			}
			m, name, err := writeBackup(folder, name)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s holds %d facts and %d files, and was read back and checked.\n", name, m.Facts, len(m.Files))
			return nil
		},
	}
	dataFlag(cmd, &folder)
	cmd.Flags().BoolVar(&check, "check", false, "only see whether FILE is whole")
	return cmd
}

// unfit are the characters of a line's name that stand in no file's.
var unfit = regexp.MustCompile(`[^a-z0-9]+`)

// writeBackup writes a backup to a file, whole or not at all, and reads it back.
func writeBackup(folder, name string) (m backup.Manifest, at string, err error) {
	into := filepath.Dir(name)
	if name == "" {
		into = "."
	}
	out, err := os.CreateTemp(into, ".unfinished-backup-")
	if err != nil {
		return m, name, fmt.Errorf("make a backup: %w", err)
	}
	defer os.Remove(out.Name())
	if m, err = backup.Write(folder, out, time.Now()); err == nil {
		err = out.Sync()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return m, name, err
	}
	if _, err := readBackup(out.Name(), ""); err != nil {
		return m, name, err
	}
	if name == "" {
		line := strings.Trim(unfit.ReplaceAllString(strings.ToLower(m.Line), "-"), "-")
		name = fmt.Sprintf("aditus-%s-%s.tar.gz", line, m.Made.Format("20060102T150405Z"))
	}
	if err := disk.Machine.Rename(out.Name(), name); err != nil {
		return m, name, fmt.Errorf("make a backup: %w", err)
	}
	return m, name, disk.Machine.Flush(filepath.Dir(name))
}

func readBackup(name, folder string) (m backup.Manifest, err error) {
	in, err := os.Open(name)
	if err != nil {
		return m, err
	}
	defer in.Close()
	return backup.Unpack(in, folder)
}

func checkBackup(out io.Writer, name string) error {
	if name == "" {
		return usageError{fmt.Errorf("--check takes the file that is to be checked")}
	}
	m, err := readBackup(name, "")
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s is whole: %s, of %s, %d facts and %d files.\n", name, m.Line, m.Made.Local().Format("Mon 2 Jan 2006 15:04:05"), m.Facts, len(m.Files))
	return nil
}

func newRestore() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:   "restore FILE|FOLDER",
		Short: "Put a backup, or what was shipped of a ledger, into a data folder",
		Long: `Puts a backup into a data folder on which nothing works, after all of it was checked. With a
folder it is the one that the ledger was shipped to, and only the ledger is put back. What is
there already stays beside it, with a name that ends in .before- and the time.

What sites on this machine were asked to run is not put back where they know it. Where a site
was told more than the ledger that was put back knows, that is seen at the first look: what
serves there is kept as it is, and nothing moves until somebody vouches for it or its own
guards have held.`,
		Args: oneArg("backup, or folder that a ledger was shipped to"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, err := lineFolder(folder)
			if err != nil {
				return err
			}
			release, err := ledger.LockFolder(folder)
			if err != nil {
				return err
			}
			defer release()
			info, err := os.Stat(args[0])
			if err != nil {
				return fmt.Errorf("restore: %w", err)
			}
			var m backup.Manifest
			var aside []string
			if info.IsDir() {
				m, aside, err = backup.RestoreShipped(args[0], folder, time.Now())
			} else {
				var in *os.File
				if in, err = os.Open(args[0]); err == nil {
					m, aside, err = backup.Restore(in, folder, time.Now())
					in.Close()
				}
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s has %d facts again.\n", folder, m.Facts)
			for _, name := range aside {
				fmt.Fprintf(cmd.OutOrStdout(), "What was there is kept as %s.\n", name)
			}
			return nil
		},
	}
	dataFlag(cmd, &folder)
	return cmd
}
