package main

import (
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
)

// secretURL is an address that may hold a password: by its flag, from a file, or from the environment.
// What stands among a program's arguments every process of the host can read.
type secretURL struct {
	flag, environment string
	to                *string
	file              string
}

func (s *secretURL) add(cmd *cobra.Command, usage string) {
	cmd.Flags().StringVar(s.to, s.flag, "", usage+" ("+s.environment+"); with a password give it there or by --"+s.flag+"-file")
	cmd.Flags().StringVar(&s.file, s.flag+"-file", "", "a `FILE` with nothing but the address of --"+s.flag+", readable by its owner only")
}

// read settles which of them counts. A password among the arguments is warned of in this release, and
// refused in the next.
func (s *secretURL) read(cmd *cobra.Command, log *slog.Logger) error {
	given := cmd.Flags().Changed(s.flag)
	switch {
	case given && s.file != "":
		return fmt.Errorf("--%s and --%s-file: give one of them", s.flag, s.flag)
	case s.file != "":
		f, err := os.Open(s.file)
		if err != nil {
			return fmt.Errorf("--%s-file: %w", s.flag, err)
		}
		defer f.Close()
		raw, err := io.ReadAll(io.LimitReader(f, 4096))
		if err != nil {
			return fmt.Errorf("--%s-file: %w", s.flag, err)
		}
		if *s.to = strings.TrimSpace(string(raw)); *s.to == "" {
			return fmt.Errorf("--%s-file %s: the file is empty", s.flag, s.file)
		}
		if info, err := f.Stat(); err == nil && info.Mode().Perm()&0o077 != 0 {
			log.Warn("others than its owner may read the file; chmod 600 it", "flag", "--"+s.flag+"-file", "file", s.file)
		}
	case !given:
		*s.to = os.Getenv(s.environment)
	case hasPassword(*s.to):
		log.Warn("an address with a password stands among the arguments, where every process of this host, workloads too, can read it; give it by --"+s.flag+"-file FILE or "+s.environment+". The next release refuses it", "flag", "--"+s.flag)
	}
	return nil
}

func hasPassword(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return strings.Contains(address, "password=")
	}
	_, some := u.User.Password()
	return some || u.Query().Has("password") || strings.Contains(u.Path, "password=")
}
