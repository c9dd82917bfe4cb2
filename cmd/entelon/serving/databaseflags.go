package serving

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"entelon/store"
	"entelon/store/private"
)

// databaseFlags name the database of a server, for commands that work on it
// beside the server.
type databaseFlags struct{ data, file string }

func (f *databaseFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.data, "data", dataDir(), "the `FOLDER` of the server's private PostgreSQL")
	c.Flags().StringVar(&f.file, "database-file", "", "the `FILE` with the address of the server's PostgreSQL, if it has none of its own")
	_ = c.MarkFlagDirname("data")
	_ = c.MarkFlagFilename("database-file")
}

// address returns the address of the database, which must run.
func (f *databaseFlags) address() (string, error) {
	if f.file != "" {
		return secretFile("--database-file", f.file)
	}
	dir, err := filepath.Abs(f.data)
	if err != nil {
		return "", fmt.Errorf("--data: %w", err)
	}
	address, err := private.Running(dir)
	if errors.Is(err, private.ErrNotRunning) {
		return "", fmt.Errorf("%w; start the server first, or name another folder with --data", err)
	}
	return address, err
}

// open opens the store.
func (f *databaseFlags) open(ctx context.Context) (*store.Store, error) {
	address, err := f.address()
	if err != nil {
		return nil, err
	}
	return store.Open(ctx, address)
}
