package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app/audit"
)

// copyHeads tells somebody else what was signed: it is appended to a file, a line of JSON
// each, or posted to an address as a list. Nowhere, where there is no target.
func copyHeads(ctx context.Context, target string, signed []audit.SignedHead) error {
	if target == "" {
		return nil
	}
	if strings.HasPrefix(target, "http://") || strings.HasPrefix(target, "https://") {
		return postHeads(ctx, target, signed)
	}
	f, err := os.OpenFile(target, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("signed heads cannot be copied: %w", err)
	}
	var lines bytes.Buffer
	enc := json.NewEncoder(&lines)
	for _, h := range signed {
		err = errors.Join(err, enc.Encode(h))
	}
	_, e := f.Write(lines.Bytes())
	return errors.Join(err, e, f.Close())
}

func postHeads(ctx context.Context, url string, signed []audit.SignedHead) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	raw, err := json.Marshal(signed)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("signed heads cannot be posted: %w", err)
	}
	res.Body.Close()
	if res.StatusCode >= 300 {
		return fmt.Errorf("signed heads cannot be posted: %s answers %s", url, res.Status)
	}
	return nil
}
