package private_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"entelon/store/private"
)

// TestStopAndStartAgain: what was written is there again, the second start
// takes seconds, and nothing runs on after a stop.
func TestStopAndStartAgain(t *testing.T) {
	top, err := os.MkdirTemp("/var/tmp", "entelon-private-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(top)
	if err := os.Chmod(top, 0o755); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(top, "database")
	ctx := context.Background()
	do := func(address, sql string) error {
		c, err := pgx.Connect(ctx, address)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		_, err = c.Exec(ctx, sql)
		return err
	}
	s, err := private.Start(ctx, private.Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	if err := do(s.Address, "CREATE TABLE kept (x int)"); err != nil {
		t.Error(err)
	}
	if _, err := private.Start(ctx, private.Options{Dir: dir}); !errors.Is(err, private.ErrInUse) {
		t.Errorf("a second server on the same folder: %v", err)
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if do(s.Address, "SELECT 1") == nil {
		t.Error("it still answers after it was stopped")
	}
	begin := time.Now()
	if s, err = private.Start(ctx, private.Options{Dir: dir}); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(begin); took > 10*time.Second {
		t.Errorf("the second start took %v", took)
	}
	if err := do(s.Address, "INSERT INTO kept VALUES (1)"); err != nil {
		t.Error(err)
	}
	if st, err := os.Stat(dir); err != nil || st.Mode().Perm() != 0o700 {
		t.Errorf("its folder has the mode %v, %v", st.Mode(), err)
	}
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
}
