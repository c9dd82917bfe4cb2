package store_test

import (
	"context"
	"fmt"
	"os"
	"testing"

	"entelon/store"
	"entelon/store/private"
)

var (
	st      *store.Store
	address string // its address
)

// TestMain runs the tests on a PostgreSQL of their own.
func TestMain(m *testing.M) {
	code, err := withDatabase(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func withDatabase(m *testing.M) (int, error) {
	pg, err := private.Temporary(context.Background())
	if err != nil {
		return 1, err
	}
	defer pg.Stop()
	address = pg.Address
	if st, err = store.Open(context.Background(), pg.Address); err != nil {
		return 1, err
	}
	defer st.Close()
	return m.Run(), nil
}
