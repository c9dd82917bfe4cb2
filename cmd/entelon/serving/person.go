package serving

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"entelon/store/database"
)

// PersonCommand says who may do what.
func PersonCommand() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Let people in from the command line"}
	var f databaseFlags
	var at string
	link := &cobra.Command{
		Use:   "link NAME",
		Short: "Print a link that signs somebody in, once and within a day",
		Long: `Prints a link that signs somebody in, once and within a day, while the server
runs: for an owner who has lost the password, most of all. It needs the right to
read the server's database.`,
		Example: `  entelon person link owner
  entelon person link "Mara Stichel" --at https://perf.shop.example:7420`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			st, err := f.open(cmd.Context())
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, st.Close()) }()
			p, err := st.PersonNamed(cmd.Context(), args[0])
			if errors.Is(err, database.ErrNotFound) {
				return fmt.Errorf("there is nobody named %q", args[0])
			} else if err != nil {
				return err
			}
			if p.Disabled {
				return fmt.Errorf("%s is locked out; somebody who manages people can change that", p.Name)
			}
			secret, err := st.AddLink(cmd.Context(), p.ID, 24*time.Hour)
			if err == nil {
				err = st.Note(cmd.Context(), "", "", "link made", map[string]string{"name": p.Name, "by": "the command line"})
			}
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), strings.TrimRight(at, "/")+"/enter/"+secret)
			return nil
		},
	}
	f.add(link)
	link.Flags().StringVar(&at, "at", "http://127.0.0.1:7420", "the server's `URL`, as the link shall have it")
	c.AddCommand(link)
	return c
}
