package image

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"io"
)

// File is a file to be packed.
type File struct {
	Name    string
	Content []byte
}

// Pack writes an archive of the files as they are, all of them executable.
func Pack(w io.Writer, files ...File) error {
	z, err := gzip.NewWriterLevel(w, gzip.BestSpeed)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for _, f := range files {
		if err := t.WriteHeader(&tar.Header{Name: f.Name, Mode: 0o755, Size: int64(len(f.Content)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		if _, err := t.Write(f.Content); err != nil {
			return err
		}
	}
	return errors.Join(t.Close(), z.Close())
}
