package guard

import (
	"context"
	"io"
)

// Reader returns a reader of r that ends when the context does.
func Reader(ctx context.Context, r io.Reader) io.Reader { return &contextReader{ctx, r} }

// contextReader ends when its context does.
type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c *contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}
