package main

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"testing"
)

func drawn(w, h int, at func(x, y int) color.Color) []byte {
	picture := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			picture.Set(x, y, at(x, y))
		}
	}
	var b bytes.Buffer
	_ = png.Encode(&b, picture)
	return b.Bytes()
}

// TestBlankPicturesAreNoticed: black, empty, broken and of the wrong size.
func TestBlankPicturesAreNoticed(t *testing.T) {
	paper := color.RGBA{251, 250, 248, 255}
	blank := func(c color.Color) []byte { return drawn(width, height, func(int, int) color.Color { return c }) }
	text := func(x, y int) color.Color {
		if y%20 < 10 && x < 600 {
			return color.RGBA{uint8(x % 16 * 10), uint8(y), 40, 255}
		}
		return paper
	}
	for name, raw := range map[string][]byte{
		"black": blank(color.Black), "paper": blank(paper), "empty": nil, "half": drawn(width, height, text)[:500], "small": drawn(100, 100, text),
		"a cursor alone": drawn(width, height, func(x, y int) color.Color {
			if x < 8 && y < 16 {
				return color.Black
			}
			return paper
		}),
	} {
		if showsSomething(raw) == nil {
			t.Errorf("%s is taken for a picture of something", name)
		}
	}
	if err := showsSomething(drawn(width, height, text)); err != nil {
		t.Errorf("a picture of something: %v", err)
	}
}

// TestPicturesOfTheDocs: none that the documents link to is blank.
func TestPicturesOfTheDocs(t *testing.T) {
	files, err := filepath.Glob("../../../docs/screenshots/*.png")
	if err != nil || len(files) == 0 {
		t.Fatalf("there are no pictures: %v", err)
	}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err == nil {
			err = showsSomething(raw)
		}
		if err != nil {
			t.Errorf("%s: %v", filepath.Base(file), err)
		}
	}
}
