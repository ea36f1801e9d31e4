package cli

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) imageImport() *cobra.Command {
	var from, region, user string
	var labels map[string]string
	cmd := &cobra.Command{
		Use: "import NAME --from FILE|DIRECTORY|REFERENCE", Short: "Bring in an image as the next version under a name",
		Long: `Brings in an image as the next version under a name. --from takes

  a gzip-compressed tar archive with a manifest, unitas.yaml, at its root that
  says what a machine starts:  start: [./timetable, --verbose]

  an OCI image layout, as a directory or as a tar of it (image export writes one)

  a reference in a registry that speaks the OCI distribution protocol; the
  service fetches it. UNITAS_REGISTRY_PASSWORD goes with --registry-user.`,
		Example: `  tar -czf timetable.tar.gz -C build .
  unitas image import timetable --from timetable.tar.gz
  unitas image import timetable --from ./layout --region headland
  unitas image import timetable --from registry.example/ferries/timetable:7`,
		Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			info, err := os.Stat(from)
			var image contract.Image
			switch {
			case errors.Is(err, os.ErrNotExist) && strings.Contains(from, "/") && !strings.HasPrefix(from, ".") && !strings.HasPrefix(from, "/"):
				image, err = a.fetch(cmd, args[0], from, region, user, labels)
			case err != nil:
				return onFile("--from", from, err)
			case info.IsDir():
				if _, err := os.Stat(filepath.Join(from, "oci-layout")); err != nil {
					return misused("--from: %s is a directory and no OCI image layout; pack it first with: tar -czf FILE -C %s .", from, from)
				}
				image, err = a.upload(cmd, args[0], from, region, labels, packed(func(w io.Writer) error { return packDirectory(w, from) }), sizeOf(from))
			default:
				f, err := os.Open(from)
				if err != nil {
					return onFile("--from", from, err)
				}
				defer f.Close()
				if image, err = a.upload(cmd, args[0], from, region, labels, f, info.Size()); err != nil {
					return err
				}
			}
			if err != nil {
				return err
			}
			return a.print(image, func() string { return readyLine(image) })
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&from, "from", "", "a `FILE`, an OCI layout's directory, or a reference in a registry")
	flags.StringVar(&region, "region", "", "the `REGION` where it comes in; without it the first")
	pairsVar(flags, &labels, "label", "labels of the version, `NAME=VALUE,…`")
	flags.StringVar(&user, "registry-user", "", "sign in to the registry as this `USER`")
	_ = cmd.MarkFlagRequired("from")
	return cmd
}

func readyLine(i contract.Image) string {
	place := ""
	if len(i.Places) > 0 {
		place = " in " + i.Places[0].Region
	}
	return fmt.Sprintf("%s@%d is ready%s (%s, %s).\n", i.Name, i.Version, place, size(i.SizeBytes), short(i.Digest))
}

func (a *app) fetch(cmd *cobra.Command, name, reference, region, user string, labels map[string]string) (contract.Image, error) {
	body := contract.ImageReference{Name: name, Reference: reference, Region: given(cmd, "region", region), Labels: given(cmd, "label", contract.Labels(labels))}
	if user != "" {
		password := os.Getenv("UNITAS_REGISTRY_PASSWORD")
		body.User, body.Password = &user, &password
	}
	if term.IsTerminal(int(os.Stderr.Fd())) {
		fmt.Fprintf(a.err, "the service fetches %s …\n", reference)
	}
	image, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) {
		return c.FetchImage(cmd.Context(), &contract.FetchImageParams{IdempotencyKey: freshKey()}, body)
	})
	return image, err
}

func (a *app) upload(cmd *cobra.Command, name, source, region string, labels map[string]string, content io.Reader, total int64) (contract.Image, error) {
	body := &progress{Reader: content, a: a, total: total, begun: time.Now()}
	pairs := []string{}
	for k, v := range labels {
		pairs = append(pairs, k+"="+v)
	}
	digest, err := digestOf(content)
	if err != nil {
		return contract.Image{}, err
	}
	source = filepath.Base(source)
	image, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) {
		return c.ImportImageWithBody(cmd.Context(), &contract.ImportImageParams{Name: name, Region: given(cmd, "region", region), Source: &source,
			Label: given(cmd, "label", sorted(pairs)), ContentDigest: digest, IdempotencyKey: freshKey()}, "application/octet-stream", body)
	})
	body.end()
	return image, err
}

// digestOf reads a file once beforehand, so that the service can hold what
// arrives against it; nil for what can be read only once.
func digestOf(content io.Reader) (*string, error) {
	f, ok := content.(*os.File)
	if !ok {
		return nil, nil
	}
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return nil, onFile("--from", f.Name(), err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, onFile("--from", f.Name(), err)
	}
	text := "sha-256=:" + base64.StdEncoding.EncodeToString(h.Sum(nil)) + ":"
	return &text, nil
}

// packed is what write writes, as it is read.
func packed(write func(io.Writer) error) io.Reader {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(write(pw)) }()
	return pr
}

func sizeOf(dir string) (total int64) {
	_ = filepath.Walk(dir, func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			total += info.Size()
		}
		return nil
	})
	return total
}

// packDirectory writes the files of a directory as a tar.
func packDirectory(w io.Writer, dir string) error {
	t := tar.NewWriter(w)
	if err := addTo(t, dir, "."); err != nil {
		return err
	}
	return t.Close()
}

// addTo packs a file or all of a directory under the path that it has below dir.
func addTo(t *tar.Writer, dir, name string) error {
	return filepath.Walk(filepath.Join(dir, filepath.FromSlash(name)), func(file string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		below, err := filepath.Rel(dir, file)
		if err != nil || (info.IsDir() && below == ".") {
			return err
		}
		if !info.IsDir() && !info.Mode().IsRegular() {
			return fmt.Errorf("%s is neither a file nor a directory", file)
		}
		h := &tar.Header{Name: filepath.ToSlash(below), Mode: int64(info.Mode().Perm()), Typeflag: tar.TypeDir}
		if info.Mode().IsRegular() {
			h.Typeflag, h.Size = tar.TypeReg, info.Size()
		}
		if err := t.WriteHeader(h); err != nil || info.IsDir() {
			return err
		}
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.CopyN(t, f, h.Size)
		return err
	})
}

// progress shows how far an upload is, on standard error of a terminal.
type progress struct {
	io.Reader
	a           *app
	total, done int64
	begun, said time.Time
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	p.done += int64(n)
	if now := time.Now(); now.Sub(p.said) > 200*time.Millisecond && term.IsTerminal(int(os.Stderr.Fd())) {
		p.said = now
		rate := float64(p.done) / max(now.Sub(p.begun).Seconds(), 0.001)
		left := time.Duration(float64(p.total-p.done) / max(rate, 1) * float64(time.Second))
		fmt.Fprintf(past(p.a.err), "\r%s of %s, %s/s, %s left\x1b[K", size(p.done), size(p.total), size(int64(rate)), words.Span(left))
	}
	return n, err
}

func (p *progress) end() {
	if !p.said.IsZero() {
		fmt.Fprint(past(p.a.err), "\r\x1b[K")
	}
}
