package fetch

import (
	"context"
	"crypto/tls"
	"net/http/httptrace"
	"time"
)

// withTimes notes when the connection stood and when the first byte came.
func withTimes(ctx context.Context, start time.Time, p *Probe) context.Context {
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		DNSDone:              func(httptrace.DNSDoneInfo) { p.Lookup = time.Since(start) },
		TLSHandshakeDone:     func(tls.ConnectionState, error) { p.TLS = time.Since(start) },
		GotConn:              func(httptrace.GotConnInfo) { p.Connect = time.Since(start) },
		GotFirstResponseByte: func() { p.FirstByte = time.Since(start) },
	})
}
