// Package jpegdec decodes streams of JPEG pictures with the reader of Go's own library.
package jpegdec

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"unsafe"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Decoder decodes one stream.
type Decoder struct{ last image.Image } // whose memory the picture handed out last lies in

// New makes a decoder.
func New() (*Decoder, error) { return &Decoder{}, nil }

// Decode implements codec.PictureDecoder.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	if u == nil || len(u.Data) == 0 {
		return nil
	}
	img, err := jpeg.Decode(bytes.NewReader(u.Data))
	if err != nil {
		return fmt.Errorf("JPEG decoder: %w", err)
	}
	d.last = img
	switch p := img.(type) {
	case *image.YCbCr:
		f := &picture.Frame{Width: p.Rect.Dx(), Height: p.Rect.Dy(), StrideY: p.YStride, Stride: p.CStride, PTS: u.PTS,
			Plane: [3]unsafe.Pointer{unsafe.Pointer(&p.Y[0]), unsafe.Pointer(&p.Cb[0]), unsafe.Pointer(&p.Cr[0])}}
		switch p.SubsampleRatio {
		case image.YCbCrSubsampleRatio420:
		case image.YCbCrSubsampleRatio422:
			f.Chroma = picture.Chroma422
		case image.YCbCrSubsampleRatio444:
			f.Chroma = picture.Chroma444
		default:
			return errors.New("JPEG decoder: colour of another shape than 4:2:0, 4:2:2 or 4:4:4")
		}
		each(f)
	case *image.Gray:
		each(&picture.Frame{Width: p.Rect.Dx(), Height: p.Rect.Dy(), StrideY: p.Stride, PTS: u.PTS, Chroma: picture.Grey,
			Plane: [3]unsafe.Pointer{unsafe.Pointer(&p.Pix[0])}})
	default:
		return errors.New("JPEG decoder: colour of another kind than YCbCr or grey")
	}
	return nil
}

// Close implements codec.PictureDecoder.
func (d *Decoder) Close() {}
