package fetch

import (
	"context"
	"net/http/httptrace"
	"time"
)

// withTimes notes when the connection stood and when the first byte came.
func withTimes(ctx context.Context, start time.Time, p *Probe) context.Context {
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		GotConn:              func(httptrace.GotConnInfo) { p.Connect = time.Since(start) },
		GotFirstResponseByte: func() { p.FirstByte = time.Since(start) },
	})
}
