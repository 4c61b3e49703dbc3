package run

import (
	"io"
	"log/slog"

	"tarnwold/internal/report/doc"
)

// Logger says on a stream what servers are asked: a line each, as text or as JSON.
func Logger(w io.Writer, format string) (*slog.Logger, error) {
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(w, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, nil)), nil
	}
	return nil, Misused("--log-format is %q; wanted text or json", doc.Clip(format))
}
