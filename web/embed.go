// Package web holds the built console and serves it.
package web

import (
	"bytes"
	"crypto/rand"
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// Handler serves the console: its page for every path of its own, its assets
// precompressed. A missing asset is a 404, never the page.
func Handler() (http.Handler, error) {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		return nil, err
	}
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		page = []byte("<!doctype html><title>Unitas</title><p>The console was not built into this binary; build it with: make build")
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if isAsset(name) {
			serveAsset(w, r, files, name)
			return
		}
		servePage(w, page)
	}), nil
}

// isAsset reports whether a path is a file and no page: what has a dot in it may be the name of
// a thing that a page is about.
func isAsset(name string) bool {
	return strings.HasPrefix(name, "assets/") || (path.Ext(name) != "" && !strings.Contains(name, "/"))
}

// servePage writes the page with a fresh nonce for its styles and scripts.
func servePage(w http.ResponseWriter, page []byte) {
	nonce := rand.Text()
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; connect-src 'self'; font-src 'self'; img-src 'self' data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'; "+
		"script-src 'nonce-"+nonce+"'; style-src 'self' 'nonce-"+nonce+"'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	_, _ = w.Write(bytes.ReplaceAll(page, []byte("__NONCE__"), []byte(nonce)))
}

var types = map[string]string{
	".js": "text/javascript; charset=utf-8", ".css": "text/css; charset=utf-8", ".woff2": "font/woff2", ".svg": "image/svg+xml",
}

func serveAsset(w http.ResponseWriter, r *http.Request, files fs.FS, name string) {
	kind, ok := types[path.Ext(name)]
	if !ok {
		http.NotFound(w, r)
		return
	}
	encoding := ""
	accepted := r.Header.Get("Accept-Encoding")
	for _, e := range []struct{ name, ext string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if strings.Contains(accepted, e.name) {
			if _, err := fs.Stat(files, name+e.ext); err == nil {
				encoding, name = e.name, name+e.ext
				break
			}
		}
	}
	raw, err := fs.ReadFile(files, name)
	if err != nil {
		http.NotFound(w, r)
		return
	}
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", "public, max-age=31536000, immutable")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Vary", "Accept-Encoding")
	if encoding != "" {
		h.Set("Content-Encoding", encoding)
	}
	_, _ = w.Write(raw)
}
