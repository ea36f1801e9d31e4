package userdata

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"path"
	"reflect"
	"runtime"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		text string
		want Plan
	}{
		{"", Plan{}},
		{" \n\n", Plan{}},
		{"#!/bin/sh\necho hello\n", Plan{Script: "#!/bin/sh\necho hello\n"}},
		{"#cloud-config\nwrite_files:\n- path: /etc/sailings\n  content: |\n    06:40\n  permissions: '0600'\n- {path: /srv//a, content: aGk=, encoding: b64, append: true}\nruncmd:\n- echo it's on\n- [touch, /tmp/x y]\n",
			Plan{Files: []File{{Path: "etc/sailings", Content: []byte("06:40\n"), Mode: 0o600}, {Path: "srv/a", Content: []byte("hi"), Mode: 0o644, Append: true}},
				Commands: [][]string{{"/bin/sh", "-c", "echo it's on"}, {"touch", "/tmp/x y"}}}},
		{"#cloud-config\nwrite_files:\n- {path: /a, encoding: gz+b64, content: H4sIAAAAAAAAA8sAAKxHMnYBAAAA}", Plan{}},
	} {
		got, err := Parse(c.text)
		if strings.Contains(c.text, "gz+b64") {
			if err == nil || !strings.Contains(err.Error(), "gzip") { // its checksum is wrong
				t.Errorf("a damaged file was taken: %v", err)
			}
			continue
		}
		if err != nil || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%q: %+v, %v", c.text, got, err)
		}
	}
}

func TestWhatIsRefused(t *testing.T) {
	for text, says := range map[string]string{
		"hello":                             `line 1: "hello" is neither`,
		"Content-Type: multipart/mixed":     "line 1:",
		"#include\nhttp://saltmere.example": "line 1:",
		"#!sh\n":                            "line 1: \"#!sh\" does not name a program",
		"#!/bin/sh\na\x00b":                 "line 2: there is a zero byte",
		"#cloud-config":                     "line 1: the cloud-config is empty",
		"#cloud-config\n- a":                "line 2: the cloud-config must be a mapping",
		"#cloud-config\nruncmd: []\npackages: [x]":                   `line 3: "packages" is not understood`,
		"#cloud-config\nruncmd: []\nruncmd: []":                      `line 3: "runcmd" is given twice`,
		"#cloud-config\nruncmd:\n- []":                               "line 3: a command has no program",
		"#cloud-config\nruncmd:\n- {a: b}":                           "line 3: a command of runcmd must be text",
		"#cloud-config\nwrite_files:\n- content: a":                  "line 3: a file has no path",
		"#cloud-config\nwrite_files:\n- path: etc":                   "line 3: path \"etc\" is not the absolute path",
		"#cloud-config\nwrite_files:\n- path: /a\n  owner: root":     `line 4: "owner" is not understood`,
		"#cloud-config\nwrite_files:\n- path: /a\n  permissions: rw": "line 4: permissions \"rw\" are not octal",
		"#cloud-config\nwrite_files:\n- path: /a\n  encoding: rot13": "line 4: the encoding",
		"#cloud-config\nwrite_files:\n- path: /a\n  content: [1]":    "line 4: content must be text",
		"#cloud-config\na: [":                                        "line ",
		"#!/bin/sh\n" + strings.Repeat("x", Longest):                 "longer than 64 KiB",
	} {
		_, err := Parse(text)
		var f *Flaw
		if !errors.As(err, &f) || !strings.HasPrefix(err.Error(), says) && !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", clip(text), err, says)
		}
	}
}

// TestBombs: what a few bytes unpack to is not held.
func TestBombs(t *testing.T) {
	var packed bytes.Buffer
	z, _ := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	zeros := make([]byte, 1<<20)
	for range 40 * maxFile >> 20 {
		if _, err := z.Write(zeros); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	text := base64.StdEncoding.EncodeToString(packed.Bytes())
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	if _, err := decode(text, "gz+b64"); err == nil || !strings.Contains(err.Error(), "unpacks to more than 8 MiB") {
		t.Errorf("it was taken: %v", err)
	}
	runtime.ReadMemStats(&after)
	if took := (after.TotalAlloc - before.TotalAlloc) >> 20; took > 10*maxFile>>20 {
		t.Errorf("reading it took %d MiB", took)
	}
}

func TestShellQuotes(t *testing.T) {
	want := "#!/bin/sh\n'echo' 'it'\\''s' 'a b' || exit\n"
	if got := Shell([][]string{{"echo", "it's", "a b"}}); got != want {
		t.Errorf("it is %q", got)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("#!/bin/sh\n")
	f.Add("#cloud-config\nwrite_files:\n- {path: /a/../../b, content: x}\nruncmd: [[a], b]\n")
	f.Add("#cloud-config\na: &a [*a]\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		var fault *Flaw
		if err != nil {
			if !errors.As(err, &fault) || fault.Line < 1 || fault.Line > strings.Count(text, "\n")+2 {
				t.Errorf("%q: %v", text, err)
			}
			return
		}
		for _, file := range p.Files {
			if file.Path == "" || path.IsAbs(file.Path) || path.Clean(file.Path) != file.Path || strings.HasPrefix(file.Path+"/", "../") {
				t.Errorf("%q leads to %q", text, file.Path)
			}
		}
		for _, c := range p.Commands {
			if len(c) == 0 || c[0] == "" {
				t.Errorf("%q runs nothing", text)
			}
		}
	})
}
