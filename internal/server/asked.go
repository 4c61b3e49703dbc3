package server

import (
	"context"
	"log/slog"
	"time"
)

type logKey struct{}

// WithLog gives a context in which it is said what servers and directories are asked, and
// how long each took. What is said names users, places and addresses, and never a secret.
func WithLog(ctx context.Context, l *slog.Logger) context.Context {
	return context.WithValue(ctx, logKey{}, l)
}

// Asked notes that something is asked from here on; what it gives is called with the outcome
// once that is over. about are names and values, as slog has them.
//
//	defer server.Asked(ctx, "read rules", "share", share)(&err)
func Asked(ctx context.Context, what string, about ...any) func(*error) {
	l, _ := ctx.Value(logKey{}).(*slog.Logger)
	if l == nil {
		return func(*error) {}
	}
	began := time.Now()
	return func(err *error) {
		about = append(about, "took", time.Since(began).Round(time.Microsecond))
		if *err != nil {
			l.WarnContext(ctx, what, append(about, "error", (*err).Error())...)
			return
		}
		l.InfoContext(ctx, what, about...)
	}
}
