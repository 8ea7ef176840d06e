package cancel

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
)

func TestReader(t *testing.T) {
	ctx, cancel := context.WithCancelCause(t.Context())
	r := Reader(ctx, strings.NewReader("ebb and flood"))
	buf := make([]byte, 3)
	if _, err := io.ReadFull(r, buf); err != nil || string(buf) != "ebb" {
		t.Errorf("%q, %v", buf, err)
	}
	why := errors.New("enough")
	cancel(why)
	if n, err := r.Read(buf); n != 0 || !errors.Is(err, why) {
		t.Errorf("after the end of the context: %d, %v", n, err)
	}
}
