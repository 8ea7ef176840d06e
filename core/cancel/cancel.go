// Package cancel ends long reading and writing when a context does.
package cancel

import (
	"context"
	"io"
)

type reader struct {
	ctx context.Context
	r   io.Reader
}

// Reader reads from r until the context ends, and fails then with the
// context's cause. It looks before each read: one that blocks, such as that of
// a network connection, has to be ended by other means.
func Reader(ctx context.Context, r io.Reader) io.Reader { return &reader{ctx, r} }

func (c *reader) Read(p []byte) (int, error) {
	if c.ctx.Err() != nil {
		return 0, context.Cause(c.ctx)
	}
	return c.r.Read(p)
}
