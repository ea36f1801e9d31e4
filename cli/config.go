package cli

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"sigs.k8s.io/yaml"

	"unitas/client"
	"unitas/internal/fleet/words"
)

// settings are the services that a person knows by name, and which of them is meant when
// nothing else is said.
type settings struct {
	Present  string             `json:"present,omitempty"`
	Services map[string]contact `json:"services,omitempty"`
}

// contact is how one service is reached.
type contact struct {
	Server      string `json:"server"`
	TokenFile   string `json:"token-file,omitempty"`
	Certificate string `json:"certificate,omitempty"` // a PEM file of who signs the service's certificate
}

// configFile is where the settings are kept.
func configFile() string {
	if file := os.Getenv("UNITAS_CONFIG"); file != "" {
		return file
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		dir = "."
	}
	return filepath.Join(dir, "unitas", "config.yaml")
}

func readSettings() (settings, error) {
	var s settings
	raw, err := os.ReadFile(configFile())
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, onFile("the settings", configFile(), err)
	}
	if err := yaml.UnmarshalStrict(raw, &s); err != nil {
		return s, fmt.Errorf("the settings %s: %s", configFile(), inYAML(err))
	}
	return s, nil
}

// write keeps the settings, whole or not at all.
func (s settings) write() error {
	raw, err := yaml.Marshal(s)
	if err != nil {
		return err
	}
	file := configFile()
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return onFile("the settings", file, err)
	}
	if err := os.WriteFile(file+".new", raw, 0o600); err != nil {
		return onFile("the settings", file, err)
	}
	return os.Rename(file+".new", file)
}

// chooseService finds how the service is reached: by flags, else by --use, else by the
// environment, else by what is set with config use.
func (a *app) chooseService(cmd *cobra.Command) error {
	s, err := readSettings()
	if err != nil {
		return err
	}
	name := a.use
	if name == "" {
		name = s.Present
	}
	if name == "" {
		return nil
	}
	c, ok := s.Services[name]
	if !ok {
		return misused("there is no service %s in %s; %s", name, configFile(), s.known())
	}
	if !cmd.Flags().Changed("server") && (a.use != "" || os.Getenv("UNITAS_SERVER") == "") {
		a.server, a.certificate = c.Server, c.Certificate
		if c.TokenFile != "" && !cmd.Flags().Changed("token-file") && (a.use != "" || os.Getenv("UNITAS_TOKEN_FILE") == "") {
			a.tokenFile = c.TokenFile
		}
	}
	return nil
}

func (s settings) known() string {
	if len(s.Services) == 0 {
		return "there are none; add one with: unitas config add NAME --server URL"
	}
	return "there are " + strings.Join(slices.Sorted(maps.Keys(s.Services)), ", ")
}

// trusting is a client that trusts who signed with the certificate in the file.
func trusting(file string) (client.ClientOption, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, onFile("the certificate", file, err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(raw) {
		return nil, fmt.Errorf("the certificate %s: it is no PEM file with a certificate", file)
	}
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return client.WithHTTPClient(&http.Client{Transport: t}), nil
}

func (a *app) configCommand() *cobra.Command {
	return group("config", "The services that this command knows by name", a.configAdd(), a.configUse(), a.configList(), a.configRemove())
}

func (a *app) configAdd() *cobra.Command {
	var c contact
	cmd := &cobra.Command{Use: "add NAME --server URL", Short: "Know a service by a name; the first is the one that is meant from then on", Args: exactly("NAME"),
		Long: `Keeps how a service is reached, under a name, in ~/.config/unitas/config.yaml (or the
file that UNITAS_CONFIG names). The token itself is not kept there, only the file it is in.
Flags go before everything, then --use, then the environment, then what is kept.`,
		Example: "  unitas config add harbour --server https://unitas.harbour:7410 --token-file ~/.unitas-token --certificate harbour-ca.pem\n  unitas config use harbour\n  unitas --use headland group list",
		RunE: func(_ *cobra.Command, args []string) error {
			if !words.IsName(args[0]) {
				return misused("%q is not a name: %s", args[0], words.NamingRule)
			}
			if !strings.HasPrefix(c.Server, "http://") && !strings.HasPrefix(c.Server, "https://") {
				return misused("--server %s: give an address such as http://127.0.0.1:7410", c.Server)
			}
			for _, file := range []*string{&c.TokenFile, &c.Certificate} {
				if *file == "" {
					continue
				}
				whole, err := filepath.Abs(*file)
				if err != nil {
					return err
				}
				*file = whole
			}
			if c.Certificate != "" {
				if _, err := trusting(c.Certificate); err != nil {
					return err
				}
			}
			s, err := readSettings()
			if err != nil {
				return err
			}
			if s.Services == nil {
				s.Services = map[string]contact{}
			}
			_, had := s.Services[args[0]]
			s.Services[args[0]] = c
			if s.Present == "" {
				s.Present = args[0]
			}
			if err := s.write(); err != nil {
				return err
			}
			return a.print(c, func() string {
				return fmt.Sprintf("%s is %s, at %s. %s is meant when nothing else is said.\n", args[0], map[bool]string{true: "changed", false: "added"}[had], c.Server, s.Present)
			})
		}}
	cmd.Flags().StringVar(&c.Server, "server", "", "the service's `URL`")
	cmd.Flags().StringVar(&c.TokenFile, "token-file", "", "the `FILE` with the bearer token")
	cmd.Flags().StringVar(&c.Certificate, "certificate", "", "a PEM `FILE` of who signs the service's certificate; without it the authorities of this machine")
	_ = cmd.MarkFlagRequired("server")
	return cmd
}

// changeSettings changes what is kept about a service that is known.
func changeSettings(name string, change func(*settings)) (settings, error) {
	s, err := readSettings()
	if err != nil {
		return s, err
	}
	if _, ok := s.Services[name]; !ok {
		return s, fmt.Errorf("there is no service %s in %s; %s", name, configFile(), s.known())
	}
	change(&s)
	return s, s.write()
}

func (a *app) configUse() *cobra.Command {
	return &cobra.Command{Use: "use SERVICE", Short: "Say which service is meant when nothing else is said", Args: exactly("SERVICE"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := changeSettings(args[0], func(s *settings) { s.Present = args[0] })
			if err != nil {
				return err
			}
			return a.print(s.Services[args[0]], func() string {
				return fmt.Sprintf("%s is meant from now on, at %s.\n", args[0], s.Services[args[0]].Server)
			})
		}}
}

func (a *app) configRemove() *cobra.Command {
	return &cobra.Command{Use: "remove SERVICE", Short: "Forget a service; nothing happens to it", Args: exactly("SERVICE"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := changeSettings(args[0], func(s *settings) {
				delete(s.Services, args[0])
				if s.Present == args[0] {
					s.Present = ""
				}
			})
			if err != nil {
				return err
			}
			return a.print(s, func() string {
				then := s.Present + " is meant when nothing else is said."
				if s.Present == "" {
					then = "None is meant when nothing else is said; choose one with: unitas config use SERVICE"
				}
				return fmt.Sprintf("%s is forgotten. %s\n", args[0], then)
			})
		}}
}

func (a *app) configList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the services that are known by name", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			s, err := readSettings()
			if err != nil {
				return err
			}
			return a.print(s, func() string {
				rows := [][]string{{"service", "", "server", "token file", "?certificate"}}
				for _, name := range slices.Sorted(maps.Keys(s.Services)) {
					c := s.Services[name]
					rows = append(rows, []string{name, map[bool]string{true: "meant"}[name == s.Present], c.Server, orWord(c.TokenFile, "the usual one"), orWord(c.Certificate, "of this machine's authorities")})
				}
				return orNone(rows, "No service is known by a name; add one with: unitas config add NAME --server URL")
			})
		}}
}
