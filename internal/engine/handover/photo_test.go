package handover

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"
)

// picture is one with a red left half and a blue right half.
func picture(w, h int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.RGBA{R: 255, A: 255}
			if x >= w/2 {
				c = color.RGBA{B: 255, A: 255}
			}
			img.Set(x, y, c)
		}
	}
	return img
}

// shotBy is a JPEG with an Exif part that says how the camera was held, and where.
func shotBy(t *testing.T, orientation uint16) []byte {
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, picture(40, 20), nil))
	tiff := append([]byte("MM\x00\x2a\x00\x00\x00\x08\x00\x02"), make([]byte, 24)...)
	binary.BigEndian.PutUint16(tiff[10:], 0x0112)
	binary.BigEndian.PutUint16(tiff[12:], 3)
	binary.BigEndian.PutUint32(tiff[14:], 1)
	binary.BigEndian.PutUint16(tiff[18:], orientation)
	copy(tiff[22:], "\x88\x25LAT54.6")
	part := append([]byte("Exif\x00\x00"), tiff...)
	head := []byte{0xFF, 0xD8, 0xFF, 0xE1, 0, 0}
	binary.BigEndian.PutUint16(head[4:], uint16(len(part)+2))
	return append(append(head, part...), b.Bytes()[2:]...)
}

func TestAPhotoIsDrawnAnewUprightAndWithoutItsPosition(t *testing.T) {
	red := func(img image.Image, x, y int) bool {
		r, _, b, _ := img.At(x, y).RGBA()
		return r > b
	}
	for orientation, at := range map[uint16][2]image.Point{ // where red and blue are, once it stands upright
		1: {{5, 10}, {35, 10}}, 2: {{35, 10}, {5, 10}}, 3: {{35, 10}, {5, 10}}, 4: {{5, 10}, {35, 10}},
		5: {{10, 5}, {10, 35}}, 6: {{10, 5}, {10, 35}}, 7: {{10, 35}, {10, 5}}, 8: {{10, 35}, {10, 5}}, 99: {{5, 10}, {35, 10}},
	} {
		file := shotBy(t, orientation)
		require.Contains(t, string(file), "LAT54.6")
		p, err := redrawn(file)
		require.NoError(t, err)
		require.NotContains(t, string(p.Image), "LAT54.6")
		require.NotContains(t, string(p.Image), "Exif")
		img, _, err := image.Decode(bytes.NewReader(p.Image))
		require.NoError(t, err)
		require.True(t, red(img, at[0].X, at[0].Y), "orientation %d", orientation)
		require.False(t, red(img, at[1].X, at[1].Y), "orientation %d", orientation)
		require.Equal(t, "image/jpeg", p.Kind)
	}
}

func TestALargePhotoIsShrunk(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, picture(4800, 100)))
	p, err := redrawn(b.Bytes())
	require.NoError(t, err)
	require.Equal(t, [3]any{"image/png", 2400, 50}, [3]any{p.Kind, p.Width, p.Height})
}

// bomb is a small PNG that claims to be a picture of many gigabytes.
func bomb() []byte {
	head := []byte("\x89PNG\r\n\x1a\n")
	ihdr := append([]byte("IHDR"), 0, 1, 0x86, 0xA0, 0, 1, 0x86, 0xA0, 8, 6, 0, 0, 0)
	out := append(head, 0, 0, 0, 13)
	out = append(out, ihdr...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(ihdr))
}

func TestWhatIsNoPhotoIsSaidToBeNone(t *testing.T) {
	broken := shotBy(t, 1)
	for name, one := range map[string]struct {
		file  []byte
		words string
	}{
		"text":   {[]byte("<svg>"), "is neither a JPEG nor a PNG picture"},
		"empty":  {nil, "is neither a JPEG nor a PNG picture"},
		"large":  {make([]byte, 5<<20+1), "at most 5242880 .5 MB."},
		"bomb":   {bomb(), "100000 x 100000 pixels"},
		"broken": {broken[:len(broken)/2], "neither a JPEG nor a PNG|broken picture"},
	} {
		_, err := redrawn(one.file)
		require.Error(t, err, name)
		require.Regexp(t, one.words, err.Error(), name)
	}
}

func FuzzRedrawn(f *testing.F) {
	f.Add([]byte("\xFF\xD8\xFF\xE1\x00\x08Exif\x00\x00"))
	f.Add(bomb())
	f.Fuzz(func(t *testing.T, file []byte) {
		if p, err := redrawn(file); err == nil {
			require.LessOrEqual(t, max(p.Width, p.Height), longEdge)
		}
		require.GreaterOrEqual(t, orientation(append([]byte{0xFF, 0xD8}, file...)), 0)
	})
}
