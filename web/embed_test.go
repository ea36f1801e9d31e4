package web

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
)

func get(h http.HandlerFunc, path string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(http.MethodGet, path, nil)
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	h(w, r)
	return w
}

func TestEachPageHasItsOwnNonce(t *testing.T) {
	h := func(w http.ResponseWriter, _ *http.Request) { servePage(w, []byte(`<script nonce="__NONCE__">`)) }
	one, two := get(h, "/"), get(h, "/")
	if one.Body.String() == two.Body.String() || strings.Contains(one.Body.String(), "__NONCE__") {
		t.Errorf("the pages are %s and %s", one.Body, two.Body)
	}
	nonce := strings.Split(one.Body.String(), `"`)[1]
	policy := one.Header().Get("Content-Security-Policy")
	if !strings.Contains(policy, "'nonce-"+nonce+"'") || strings.Contains(policy, "unsafe-inline") || one.Header().Get("Cache-Control") != "no-store" {
		t.Errorf("the headers are %v", one.Header())
	}
}

func TestAssets(t *testing.T) {
	files := fstest.MapFS{"assets/a.js": {Data: []byte("plain")}, "assets/a.js.br": {Data: []byte("brotli")}, "assets/a.js.gz": {Data: []byte("gzip")}, "secret.txt": {Data: []byte("x")}}
	h := func(w http.ResponseWriter, r *http.Request) {
		serveAsset(w, r, files, strings.TrimPrefix(r.URL.Path, "/"))
	}
	for accept, want := range map[string]string{"": "plain", "gzip": "gzip", "gzip, br": "brotli"} {
		w := get(h, "/assets/a.js", "Accept-Encoding", accept)
		if w.Body.String() != want || !strings.Contains(w.Header().Get("Cache-Control"), "immutable") || !strings.HasPrefix(w.Header().Get("Content-Type"), "text/javascript") {
			t.Errorf("with %q: %s %v", accept, w.Body, w.Header())
		}
	}
	for _, path := range []string{"/assets/b.js", "/secret.txt"} {
		if w := get(h, path); w.Code != http.StatusNotFound {
			t.Errorf("%s is answered %d", path, w.Code)
		}
	}
}

// TestPagesOfThingsWithDots: a page about an address or a dotted name is a page when it is read
// anew.
func TestPagesOfThingsWithDots(t *testing.T) {
	for name, asset := range map[string]bool{"assets/a.js": true, "tide.svg": true, "": false, "pools/front": false, "listeners/127.0.0.1:8000": false} {
		if isAsset(name) != asset {
			t.Errorf("%q is taken for an asset: %v", name, !asset)
		}
	}
}
