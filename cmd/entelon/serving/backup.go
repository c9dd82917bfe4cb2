package serving

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/spf13/cobra"

	"entelon/store"
	"entelon/store/private"
)

// BackupCommand writes all records to a file.
func BackupCommand() *cobra.Command {
	var f databaseFlags
	c := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write everything that a server keeps into one file, while it runs",
		Long: `Writes everything that a server keeps into one file, as it is at one moment,
while the server runs. The file holds what the database holds, so it is as secret:
takes, names, digests of passwords. It is PostgreSQL's own archive format.`,
		Example: `  entelon backup entelon-2026-11-28.backup
  entelon backup x.backup --database-file /etc/entelon/database`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			address, err := f.address()
			if err != nil {
				return err
			}
			made := args[0] + ".part"
			out, err := os.OpenFile(made, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("writing the backup: %w", err)
			}
			err = postgresTool(cmd.Context(), "pg_dump", address, out, "--format=custom", "--no-owner", "--no-privileges", "--schema=public", "--compress=1")
			if err == nil {
				err = out.Sync()
			}
			if err = errors.Join(err, out.Close()); err != nil {
				return errors.Join(fmt.Errorf("writing the backup: %w", err), os.Remove(made))
			}
			if err := os.Rename(made, args[0]); err != nil {
				return fmt.Errorf("writing the backup: %w", err)
			}
			st, err := os.Stat(args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s holds everything, in %d bytes\n", args[0], st.Size())
			return nil
		},
	}
	f.add(c)
	return c
}

// RestoreCommand reads them back.
func RestoreCommand() *cobra.Command {
	var f databaseFlags
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Fill an empty database from a backup",
		Long: `Fills an empty database from a backup. With --data it makes a private PostgreSQL
in that folder, which must not have one with takes in it; no server may run with it
meanwhile. A database that holds anything is refused.`,
		Example: `  entelon restore entelon-2026-11-28.backup --data /var/lib/entelon-new
  entelon restore x.backup --database-file /etc/entelon/database`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			ctx := cmd.Context()
			in, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			head := make([]byte, 5)
			if _, err := io.ReadFull(in, head); err != nil || string(head) != "PGDMP" {
				return fmt.Errorf("%s is not a backup", args[0])
			}
			if _, err := in.Seek(0, io.SeekStart); err != nil {
				return err
			}
			var address string
			if f.file != "" {
				if address, err = secretFile("--database-file", f.file); err != nil {
					return err
				}
			} else {
				dir, err := filepath.Abs(f.data)
				if err != nil {
					return err
				}
				pg, err := private.Start(ctx, private.Options{Dir: dir})
				if err != nil {
					return err
				}
				defer func() { err = errors.Join(err, pg.Stop()) }()
				address = pg.Address
			}
			if err := mustBeEmpty(ctx, address); err != nil {
				return err
			}
			if err := postgresTool(ctx, "pg_restore", address, nil, "--no-owner", "--no-privileges", "--single-transaction", "--exit-on-error", "--schema=public", "--dbname=", args[0]); err != nil {
				return fmt.Errorf("restoring: %w", err)
			}
			// It may be older than this Entelon; a newer one is refused.
			st, err := store.Open(ctx, address)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, st.Close()) }()
			n, err := st.Exact(ctx, "takes")
			if err == nil {
				fmt.Fprintf(cmd.OutOrStdout(), "restored, with %d takes\n", n)
			}
			return err
		},
	}
	f.add(c)
	return c
}

// mustBeEmpty is an error where a database has tables already.
func mustBeEmpty(ctx context.Context, address string) error {
	db, err := pgx.Connect(ctx, address)
	if err != nil {
		return fmt.Errorf("asking the database: %w", err)
	}
	defer db.Close(ctx)
	var tables int
	if err := db.QueryRow(ctx, "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'").Scan(&tables); err != nil {
		return fmt.Errorf("asking the database: %w", err)
	}
	if tables > 0 {
		return errors.New("the database is not empty; restore into another one")
	}
	return nil
}

// postgresTool runs a program of PostgreSQL's against a database. The password
// goes through the environment, which only this user can read.
func postgresTool(ctx context.Context, name, address string, out io.Writer, args ...string) error {
	path, err := postgresProgram(name)
	if err != nil {
		return err
	}
	c, err := pgx.ParseConfig(address)
	if err != nil {
		return fmt.Errorf("the database's address: %w", err)
	}
	for i, a := range args {
		if a == "--dbname=" {
			args[i] = "--dbname=" + c.Database
		}
	}
	if name == "pg_dump" {
		args = append(args, c.Database)
	}
	args = append([]string{"--host", c.Host, "--port", fmt.Sprint(c.Port), "--username", c.User, "--no-password"}, args...)
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LANG=C.UTF-8", "PGPASSWORD=" + c.Password}
	if c.TLSConfig == nil {
		cmd.Env = append(cmd.Env, "PGSSLMODE=disable")
	}
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = out, &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.Join(strings.Fields(said.String()), " "))
	}
	return nil
}

// postgresProgram finds a program of the newest PostgreSQL that is installed.
func postgresProgram(name string) (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if err != nil || len(found) == 0 {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
		return "", fmt.Errorf("%s is not installed; install it with: apt-get install postgresql", name)
	}
	sort.Slice(found, func(i, j int) bool {
		return len(found[i]) < len(found[j]) || len(found[i]) == len(found[j]) && found[i] < found[j]
	})
	return found[len(found)-1], nil
}
