package service

import (
	"io/fs"
	"log/slog"
	"net/netip"

	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/otel/trace"
)

// Front is what the HTTP side of a service needs from its surroundings.
type Front struct {
	Console        fs.FS // the built console; nil where it was not built
	Log            *slog.Logger
	PublicURL      string         // scheme and host under which callers know the service; "": what the request says
	TrustedProxies []netip.Prefix // whose word of where a request comes from is taken
	Metrics        *prometheus.Registry
	Tracer         trace.Tracer // nil: nobody asks for traces
}
