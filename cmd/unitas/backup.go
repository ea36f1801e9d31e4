package main

import (
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/cli"
	"unitas/internal/backup"
	"unitas/internal/fleet/words"
)

// backupFlags are where a service keeps what is backed up.
type backupFlags struct {
	backup.Config
	database secretURL
	places   string
	zones    []string
}

func (f *backupFlags) add(cmd *cobra.Command) {
	f.database = secretURL{flag: "database", environment: "UNITAS_DATABASE", to: &f.Database}
	flags := cmd.Flags()
	flags.StringVar(&f.Data, "data", cli.DefaultData(), "the data `DIRECTORY` of the service")
	f.database.add(cmd, "the `URL` of the service's PostgreSQL database; without it the private one in the data directory")
	flags.StringVar(&f.Certificates, "certificates", "", "the `DIRECTORY` of its certificates; without it \"certificates\" in the data directory")
	flags.StringVar(&f.places, "places", os.Getenv("UNITAS_PLACES"), "the `FILE` that says which regions and zones there are (UNITAS_PLACES)")
	flags.StringSliceVar(&f.zones, "zones", []string{"east-pier", "mid-pier", "west-pier"}, "without --places: the zones of the one region")
}

// read settles the flags.
func (f *backupFlags) read(cmd *cobra.Command) (err error) {
	log := slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
	if err := f.database.read(cmd, log); err != nil {
		return err
	}
	if f.Data, err = filepath.Abs(f.Data); err != nil {
		return err
	}
	f.Release, f.PlacesFile = version, f.places
	f.Progress = func(format string, args ...any) { fmt.Fprintf(cmd.ErrOrStderr(), "… "+format+"\n", args...) }
	f.Places, err = readPlaces(f.places, f.zones, f.Data)
	return err
}

func backupCommand() *cobra.Command {
	var f backupFlags
	cmd := &cobra.Command{
		Use: "backup FILE", Short: "Write the records, images and settings of a service on this host into one file",
		Long: `Writes what a service cannot make again into one archive, while it runs or not: all
records as they are at one moment, the images of all regions, the certificates, the
places and the first token. Machines and logs are not in it. It is run on the host of the
service, as its user, with the --data, --database and --places of "unitas serve".

The file is readable by its owner only, and says which secrets it holds. A FILE that is a
directory gets one that is named by the time. "unitas restore" makes a data directory of it.`,
		Example: "  unitas backup /var/backups\n  unitas backup saltmere.tar --data ./state --places places.yaml",
		Args:    cli.Exactly("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.read(cmd); err != nil {
				return err
			}
			file := args[0]
			if info, err := os.Stat(file); err == nil && info.IsDir() {
				file = filepath.Join(file, "unitas-"+time.Now().UTC().Format("20060102T150405Z")+".tar")
			}
			made, err := backup.Take(cmd.Context(), f.Config, file)
			if err != nil {
				return err
			}
			info, err := os.Stat(file)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "%s is written, %s.\n", file, mebibytes(info.Size()))
			sayContents(out, made)
			fmt.Fprintf(out, "Make a service of it: unitas restore %s --data DIRECTORY\n", file)
			return nil
		},
	}
	f.add(cmd)
	return cmd
}

func mebibytes(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

// sayContents says what an archive holds.
func sayContents(out io.Writer, c backup.Contents) {
	fmt.Fprintf(out, "Records of %s by release %s: %s, %s, %s.\n", c.Taken.Format("2006-01-02 15:04:05 UTC"), c.Release,
		words.Count(c.Groups, "group"), words.Count(c.Instances, "instance"), words.Count(c.Images, "image version"))
	for _, region := range slices.Sorted(maps.Keys(c.Regions)) {
		fmt.Fprintf(out, "Images of %s: %s, %s.\n", region, words.Count(c.Regions[region].Count, "file"), mebibytes(c.Regions[region].Bytes))
	}
	if len(c.Files) > 0 {
		fmt.Fprintf(out, "Files: %s.\n", strings.Join(c.Files, ", "))
	}
	for _, part := range slices.Sorted(maps.Keys(c.Secrets)) {
		fmt.Fprintf(out, "Secret in %s: %s.\n", part, c.Secrets[part])
	}
}

func restoreCommand() *cobra.Command {
	var f backupFlags
	var dryRun bool
	cmd := &cobra.Command{
		Use: "restore FILE", Short: "Make a data directory and fill an empty database from a backup",
		Long: `Reads a backup, holds all of it against its digests, and fills an empty database and
the data directory from it. Machines that are in the directory stay as they are, and so do
images; another token or certificate that is there is kept as NAME.before.

A service that is started on it then only shows what it finds: nothing is launched, healed,
resized or stopped, and no listener opens, until "unitas service resume" says that it may.`,
		Example: "  unitas restore saltmere.tar --dry-run\n  unitas restore saltmere.tar --data ./state",
		Args:    cli.Exactly("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			if dryRun {
				c, err := backup.Read(args[0])
				if err == nil {
					sayContents(out, c)
				}
				return err
			}
			if err := f.read(cmd); err != nil {
				return err
			}
			from, err := backup.Restore(cmd.Context(), f.Config, args[0])
			if err != nil {
				return err
			}
			sayContents(out, from)
			start := "unitas serve --data " + f.Data
			switch {
			case f.places != "":
				start += " --places " + f.places
			case slices.Contains(from.Files, "places.yaml"):
				start += " --places " + filepath.Join(f.Data, "places.yaml")
			}
			fmt.Fprintf(out, "%s is restored. Start the service (%s), look at what it finds (unitas service), and have it act: unitas service resume\n", f.Data, start)
			return nil
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "only say what is in the backup")
	return cmd
}
