package main

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"time"
)

// keep takes a picture until two in a row are the same and show something, and writes
// it; one that stays blank is an error, and what was there before stays.
func (s *shots) keep(name string, take func(file string) ([]byte, error)) error {
	dir, err := os.MkdirTemp("", "unitas-shot-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var last []byte
	var why error
	for range 20 {
		raw, err := take(filepath.Join(dir, name+".png"))
		if err != nil {
			return err
		}
		why = showsSomething(raw)
		if why == nil && (bytes.Equal(raw, last) || len(last) > 0) {
			return os.WriteFile(filepath.Join(s.out, name+".png"), raw, 0o644)
		}
		if why == nil {
			last = raw
		}
		select {
		case <-time.After(250 * time.Millisecond):
		case <-s.ctx.Done():
			return s.ctx.Err()
		}
	}
	return fmt.Errorf("the picture %s is blank: %w", name, why)
}

// How much of a picture must be other than its background, and of how many colours
// it must be at least, for it to show something.
const (
	leastInk    = 0.01
	leastColors = 8
)

// showsSomething reports a picture that is broken, of another size, or blank.
func showsSomething(raw []byte) error {
	picture, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return fmt.Errorf("it is no picture: %w", err)
	}
	if size := picture.Bounds().Size(); size != (image.Point{X: width, Y: height}) {
		return fmt.Errorf("it is %d by %d", size.X, size.Y)
	}
	colors := map[color.Color]int{}
	for y := 0; y < height; y += 2 {
		for x := 0; x < width; x += 2 {
			colors[picture.At(x, y)]++
		}
	}
	all, most := 0, 0
	for _, n := range colors {
		all, most = all+n, max(most, n)
	}
	if ink := float64(all-most) / float64(all); ink < leastInk || len(colors) < leastColors {
		return fmt.Errorf("%.1f %% of it is other than its background, in %d colours", 100*ink, len(colors))
	}
	return nil
}
