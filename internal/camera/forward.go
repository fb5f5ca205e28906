package camera

import (
	"context"
	"errors"
	"io"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
)

// Forward sends what it reads, an FLV file that grows, to an address, as it comes.
func Forward(ctx context.Context, in io.Reader, address string) error {
	r, err := flv.NewReader(in)
	if err != nil {
		return err
	}
	conn, err := dial(ctx, &Options{URL: address})
	if err != nil {
		return err
	}
	tags := make(chan *flv.Tag, 64)
	read := make(chan error, 1)
	go func() {
		defer close(tags)
		for {
			t, err := r.Next()
			if err != nil {
				read <- err
				return
			}
			select {
			case tags <- t:
			case <-ctx.Done():
				return
			}
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return conn.Close()
		case err := <-conn.Failed():
			return errors.Join(err, conn.Close())
		case t, ok := <-tags:
			if !ok {
				if err := <-read; !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
					return errors.Join(err, conn.Close())
				}
				return conn.Close()
			}
			if t.Type == flv.TagScript {
				values, err := amf.DecodeAll(t.Body)
				if err != nil || len(values) < 2 {
					continue
				}
				if m, ok := values[1].(amf.ECMAArray); ok {
					err = conn.begin(m)
				} else if o, ok := values[1].(amf.Object); ok {
					err = conn.begin(amf.ECMAArray(o))
				}
				if err != nil {
					return errors.Join(err, conn.Close())
				}
				continue
			}
			if err := conn.tag(t.Type, t.Timestamp, t.Body); err != nil {
				return errors.Join(err, conn.Close())
			}
		}
	}
}
