package handover

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"sync"

	"golang.org/x/image/draw"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

const (
	maxPhoto  = 5 << 20    // bytes of a file
	maxPixels = 25_000_000 // of a picture before it is drawn anew
	longEdge  = 2400       // of a picture as it is kept, in pixels
	quality   = 82
)

// drawing is held while a picture is unpacked: one takes up to 200 MB.
var drawing sync.Mutex

// redrawn reads a JPEG or PNG and draws it anew, upright and at most longEdge long: positions, names and whatever else the file has beside
// the picture is gone. Error: site.Flaws for a file that is too large, or is none.
func redrawn(file []byte) (store.Photo, error) {
	flaw := func(format string, args ...any) (store.Photo, error) {
		return store.Photo{}, site.Flaws{{Field: "photo", Detail: fmt.Sprintf(format, args...)}}
	}
	if len(file) > maxPhoto {
		return flaw("has %d bytes; at most %d (5 MB) are allowed", len(file), maxPhoto)
	}
	bounds, kind, err := image.DecodeConfig(bytes.NewReader(file))
	if err != nil {
		return flaw("is neither a JPEG nor a PNG picture")
	}
	// Before anything is unpacked: a small file may claim to be a picture of many gigabytes.
	if int64(bounds.Width)*int64(bounds.Height) > maxPixels {
		return flaw("is a picture of %d x %d pixels; at most %d million pixels are allowed", bounds.Width, bounds.Height,
			maxPixels/1_000_000)
	}
	drawing.Lock()
	defer drawing.Unlock()
	img, _, err := image.Decode(bytes.NewReader(file))
	if err != nil {
		return flaw("is a broken picture: %s", err)
	}
	img = shrunk(img)
	if kind == "jpeg" {
		img = upright(img, orientation(file))
	}
	out := store.Photo{Kind: "image/" + kind, Width: img.Bounds().Dx(), Height: img.Bounds().Dy()}
	var b bytes.Buffer
	if kind == "png" {
		err = png.Encode(&b, img)
	} else {
		err = jpeg.Encode(&b, img, &jpeg.Options{Quality: quality})
	}
	out.Image = b.Bytes()
	return out, err
}

func shrunk(img image.Image) image.Image {
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	if max(w, h) <= longEdge {
		return img
	}
	scale := float64(longEdge) / float64(max(w, h))
	out := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(w)*scale)), max(1, int(float64(h)*scale))))
	draw.ApproxBiLinear.Scale(out, out.Bounds(), img, img.Bounds(), draw.Src, nil)
	return out
}

// upright turns a picture as its camera says that it was held (Exif 2.32, tag 0x0112).
func upright(img image.Image, o int) image.Image {
	if o < 2 || o > 8 {
		return img
	}
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	size := image.Rect(0, 0, w, h)
	if o >= 5 {
		size = image.Rect(0, 0, h, w)
	}
	out := image.NewRGBA(size)
	for y := range h {
		for x := range w {
			to := [9]image.Point{2: {w - 1 - x, y}, 3: {w - 1 - x, h - 1 - y}, 4: {x, h - 1 - y}, 5: {y, x}, 6: {h - 1 - y, x},
				7: {h - 1 - y, w - 1 - x}, 8: {y, w - 1 - x}}[o]
			out.Set(to.X, to.Y, img.At(b.Min.X+x, b.Min.Y+y))
		}
	}
	return out
}

// orientation reads how a camera was held from the Exif part of a JPEG; 1, upright, where it does not say.
func orientation(file []byte) int {
	for at := 2; at+4 <= len(file) && file[at] == 0xFF; {
		size := int(binary.BigEndian.Uint16(file[at+2:]))
		if size < 2 || at+2+size > len(file) {
			return 1
		}
		part := file[at+4 : at+2+size]
		if file[at+1] == 0xE1 && bytes.HasPrefix(part, []byte("Exif\x00\x00")) {
			return tagged(part[6:])
		}
		if file[at+1] == 0xDA { // the picture itself
			return 1
		}
		at += 2 + size
	}
	return 1
}

// tagged finds the orientation in a TIFF directory.
func tagged(tiff []byte) int {
	if len(tiff) < 8 {
		return 1
	}
	var order binary.ByteOrder = binary.LittleEndian
	if tiff[0] == 'M' {
		order = binary.BigEndian
	}
	dir := int64(order.Uint32(tiff[4:]))
	if dir+2 > int64(len(tiff)) {
		return 1
	}
	for i := range int64(order.Uint16(tiff[dir:])) {
		at := dir + 2 + 12*i
		if at+12 > int64(len(tiff)) {
			return 1
		}
		if order.Uint16(tiff[at:]) == 0x0112 {
			return int(order.Uint16(tiff[at+8:]))
		}
	}
	return 1
}
