package store

import (
	"database/sql"
	"errors"
)

var _ = keeps(
	Kept{Table: "idempotency", Option: "keep-results", Days: 1, Why: "results of requests, for repeated ones",
		Bytes: 1_200},
)

// Remembered gives the result of an earlier request with this idempotency key and the
// digest of what was asked then; no result where there was none.
func (t *Tx) Remembered(scope, id string) (request string, result []byte, err error) {
	var row struct {
		Request string
		Result  []byte
	}
	err = t.get(&row, "SELECT request, result FROM idempotency WHERE scope = ? AND id = ?", scope, id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil, nil
	}
	return row.Request, row.Result, err
}

// errMeanwhile is returned where another request with the same idempotency key committed
// first; running the transaction again finds its result.
var errMeanwhile = errors.New("the same request was committed meanwhile")

// Claim takes an idempotency key for a request. Another request with it waits for this one.
func (t *Tx) Claim(scope, id, request string, at int64) error {
	err := t.exec("INSERT INTO idempotency (scope, id, request, result, at) VALUES (?, ?, ?, '', ?)", scope, id,
		request, at)
	if isDuplicate(err) {
		return errMeanwhile
	}
	return err
}

// Remember keeps the result of a request under its idempotency key.
func (t *Tx) Remember(scope, id string, result []byte) error {
	return t.later("UPDATE idempotency SET result = ? WHERE scope = ? AND id = ?", result, scope, id)
}
