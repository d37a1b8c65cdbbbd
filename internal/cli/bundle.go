package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/signature"
	"aditus/internal/source"
	"aditus/internal/tui/kit"
)

func newBundle() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "bundle",
		Short: "Versioned bundles of declarations in an OCI registry",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newBundlePush(), newBundleList(), newBundleShow())
	return cmd
}

// bundleFlags say how a registry is spoken to.
type bundleFlags struct {
	folder string
	plain  bool
}

func (f *bundleFlags) add(cmd *cobra.Command) {
	dataFlag(cmd, &f.folder)
	cmd.Flags().BoolVar(&f.plain, "plain", false, "the registry speaks http")
}

// registries gives the registry of a repository, with the credential that the data folder has for its host.
func (f *bundleFlags) registries(repository string) (*source.Registries, error) {
	host, _, _ := strings.Cut(strings.TrimPrefix(repository, "oci://"), "/")
	var credentials func(string) source.Credential
	if folder, err := dataFolder(f.folder); err == nil {
		if _, err := readSettings(folder); err == nil {
			key, err := source.OpenKey(folder)
			if err != nil {
				return nil, err
			}
			kept, err := key.Credentials(folder)
			if err != nil {
				return nil, err
			}
			credentials = func(host string) source.Credential { return kept[host] }
		}
	}
	return source.NewRegistries(map[string]config.Registry{host: {Plain: f.plain}}, credentials), nil
}

func newBundlePush() *cobra.Command {
	var f bundleFlags
	var title, author, key, certificate string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "push FOLDER oci://HOST/PATH:VERSION",
		Short: "Put a folder of declarations into a registry under a version",
		Long: `Checks the folder and pushes it as one artifact. A version never changes: pushing
the same again does nothing, pushing something else under it is refused.`,
		Example: "  aditus bundle push base/ oci://registry.skerry.example/line/base:1.4.2 --title 'Gates by day'",
		Args:    twoArgs("FOLDER and oci://HOST/PATH:VERSION"),
		RunE: func(cmd *cobra.Command, args []string) error {
			repository, version, ok := splitVersion(args[1])
			if !ok {
				return usageError{fmt.Errorf("%q has no version; write oci://HOST/PATH:1.4.2", args[1])}
			}
			files, err := source.FromFolder(args[0])
			if err != nil {
				return err
			}
			if _, problems := source.Load(cmd.Context(), files, source.Options{}); len(problems.Wrong()) > 0 {
				return fmt.Errorf("nothing is pushed: %w; aditus check %s tells all", problems.Wrong(), args[0])
			}
			if (key == "") != (certificate == "") {
				return usageError{errors.New("--key and --certificate go together")}
			}
			r, err := f.registries(repository)
			if err != nil {
				return err
			}
			if author == "" {
				author = whoami(fromShell).Name
			}
			digest, err := r.Push(cmd.Context(), repository, source.Bundle{Version: version, Title: title, Author: author, Created: time.Now(), Files: files})
			if err != nil {
				return err
			}
			if key != "" {
				signer, err := signature.OpenSigner(key, certificate)
				if err != nil {
					return err
				}
				if err := r.Sign(cmd.Context(), strings.TrimPrefix(repository, config.BundleScheme)+"@"+digest, signer); err != nil {
					return fmt.Errorf("%s:%s is %s, and is not signed: %w", repository, version, digest, err)
				}
			}
			if asJSON {
				return writeLine(cmd.OutOrStdout(), map[string]any{"repository": repository, "version": version, "digest": digest, "files": len(files)})
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s:%s is %s, %s\n", repository, version, digest, say.Count(len(files), "file"))
			return nil
		},
	}
	f.add(cmd)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVar(&title, "title", "", "what this version brings, in a few `words`")
	cmd.Flags().StringVar(&author, "author", "", "who made it (default: you)")
	cmd.Flags().StringVar(&key, "key", "", "sign it with the private key in a `FILE` (PKCS #8, PEM)")
	cmd.Flags().StringVar(&certificate, "certificate", "", "whose certificate, with those that signed it, is in a `FILE` (PEM)")
	return cmd
}

// splitVersion parts oci://HOST/PATH:VERSION. A port is no version.
func splitVersion(reference string) (repository, version string, ok bool) {
	at := strings.LastIndex(reference, ":")
	if at < 0 || at < strings.LastIndex(reference, "/") {
		return reference, "", false
	}
	return reference[:at], reference[at+1:], reference[at+1:] != ""
}

func newBundleList() *cobra.Command {
	var f bundleFlags
	var wish string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "list oci://HOST/PATH",
		Short: "The versions of a bundle, newest first",
		Args:  oneArg("bundle, written oci://HOST/PATH"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := f.registries(args[0])
			if err != nil {
				return err
			}
			versions, err := r.Versions(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			chosen := ""
			if wish != "" {
				if chosen, err = source.Choose(wish, versions); err != nil {
					return err
				}
			}
			if asJSON {
				return writeLine(cmd.OutOrStdout(), map[string]any{"versions": versions, "taken": chosen})
			}
			for _, version := range versions {
				mark := ""
				if version == chosen {
					mark = "  what " + wish + " takes"
				}
				fmt.Fprintln(cmd.OutOrStdout(), version+mark)
			}
			return nil
		},
	}
	f.add(cmd)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVar(&wish, "version", "", "also tell which one a `range` takes")
	return cmd
}

func newBundleShow() *cobra.Command {
	var f bundleFlags
	var print string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "show oci://HOST/PATH:VERSION",
		Short: "What is in a bundle: workloads, sites, and variables with their defaults",
		Args:  oneArg("bundle, written oci://HOST/PATH:VERSION"),
		RunE: func(cmd *cobra.Command, args []string) error {
			repository, version, ok := splitVersion(args[0])
			if !ok {
				return usageError{errors.New("name a version; aditus bundle list tells them")}
			}
			r, err := f.registries(repository)
			if err != nil {
				return err
			}
			b, err := r.Pull(cmd.Context(), repository, version)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if print != "" {
				for _, file := range b.Files {
					if file.Name == print {
						_, err := out.Write(file.Text)
						return err
					}
				}
				return fmt.Errorf("there is no file %s in it", print)
			}
			if asJSON {
				return writeJSON(out, shownBundle(cmd.Context(), repository, b))
			}
			fmt.Fprintf(out, "%s:%s  %s\n“%s” by %s, %s\n", repository, b.Version, b.Digest, kit.Plain(b.Title), kit.Plain(b.Author), b.Created.Local().Format("2 Jan 2006 15:04"))
			loaded, problems := source.Load(cmd.Context(), b.Files, source.Options{})
			fmt.Fprintln(out, "\nworkloads")
			for _, d := range loaded.Declarations {
				fmt.Fprintf(out, "  %s/%s  %s\n", d.Workload, d.Site, kit.Plain(d.Version()))
			}
			fmt.Fprintln(out, "\nvariables, with the values they have where you do not give others with --set")
			shown := map[string]bool{}
			for _, u := range loaded.Uses {
				line := fmt.Sprintf("  %-20s %s at %s", u.Variable, kit.Plain(u.Value), u.Site)
				if !shown[line] {
					fmt.Fprintln(out, line)
					shown[line] = true
				}
			}
			for _, p := range problems {
				fmt.Fprintf(out, "  %s\n", kit.Plain(p.Error()))
			}
			return nil
		},
	}
	f.add(cmd)
	jsonFlag(cmd, &asJSON)
	cmd.Flags().StringVar(&print, "print", "", "print a `file` of it instead")
	return cmd
}

// shownBundle is what is in a bundle, for scripts.
func shownBundle(ctx context.Context, repository string, b source.Bundle) any {
	loaded, problems := source.Load(ctx, b.Files, source.Options{})
	type workload struct {
		Berth   string `json:"berth"`
		Version string `json:"version"`
	}
	workloads, files, uses := []workload{}, []string{}, append([]source.SiteUse{}, loaded.Uses...)
	for _, d := range loaded.Declarations {
		workloads = append(workloads, workload{d.Workload + "/" + d.Site, d.Version()})
	}
	for _, file := range b.Files {
		files = append(files, file.Name)
	}
	return map[string]any{
		"repository": repository, "version": b.Version, "digest": b.Digest, "title": b.Title, "author": b.Author, "created": b.Created,
		"workloads": workloads, "variables": uses, "files": files, "problems": append(declare.Problems{}, problems...),
	}
}
