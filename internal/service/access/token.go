package access

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"steadyferry/internal/engine/catalog"
)

// WriteOwnerToken makes sure that DIR/owner.token holds a token in force. One
// that was revoked, or that these records do not know, is not made valid again:
// another takes its place.
func (s *Service) WriteOwnerToken(ctx context.Context) (string, error) {
	path := filepath.Join(s.dir, "owner.token")
	b, err := os.ReadFile(path)
	if err != nil && !os.IsNotExist(err) {
		return "", err
	}
	text := strings.TrimSpace(string(b))
	if _, ok := s.catalog.Known(catalog.Token, text); ok {
		return text, nil
	}
	label := "owner.token of " + s.parts.Name()
	if text, err = s.catalog.NewSecret(ctx, catalog.Secret{Principal: catalog.Owner, Kind: catalog.Token, Label: label}, 0, &catalog.Entry{Who: "ferryd", Action: "new token", Address: "owner", After: map[string]any{"label": label}}); err != nil {
		return "", err
	}
	if err := os.WriteFile(path+".new", []byte(text+"\n"), 0o600); err != nil {
		return "", err
	}
	return text, os.Rename(path+".new", path)
}

// KeepOwnerToken writes another owner.token when that which is there has been
// revoked.
func (s *Service) KeepOwnerToken(ctx context.Context) {
	if !s.catalog.AwaySince().IsZero() {
		return
	}
	b, err := os.ReadFile(filepath.Join(s.dir, "owner.token"))
	if err != nil {
		return // nobody has asked for one, or it was taken away
	}
	if _, ok := s.catalog.Known(catalog.Token, strings.TrimSpace(string(b))); ok {
		return
	}
	if _, err := s.WriteOwnerToken(ctx); err != nil && ctx.Err() == nil {
		slog.Warn("a new owner.token could not be written", "error", err)
		return
	}
	slog.Info("the owner.token was revoked; the file has another one")
}
