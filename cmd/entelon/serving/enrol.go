package serving

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"entelon/collector"
	"entelon/collector/identity"
	"entelon/server/api"
)

func enrolCommand(state *string) *cobra.Command {
	c := &cobra.Command{
		Use:   "enrol LINK",
		Short: "Make this machine's collector known to a server",
		Long: `Makes a key pair on this machine and hands its public half to a server, by a link
that somebody who manages people made on the Machines page. The link works once.
The private half stays in the collector's folder. With - the link is read from
standard input.`,
		Example: `  entelon collector enrol https://perf.shop.example:7420/enrol/…
  entelon collector enrol - < link.txt`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			text := args[0]
			if text == "-" {
				line, err := bufio.NewReader(io.LimitReader(cmd.InOrStdin(), 4096)).ReadString('\n')
				if err != nil && !errors.Is(err, io.EOF) {
					return fmt.Errorf("reading the link: %w", err)
				}
				text = strings.TrimSpace(line)
			}
			name, err := enrolHere(cmd.Context(), *state, text)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Enrolled as %s. Start it with: entelon collector\n", name)
			return nil
		},
	}
	return c
}

// enrolHere makes an identity in a folder and has it enrolled by a link.
func enrolHere(ctx context.Context, dir, link string) (name string, err error) {
	u, err := url.Parse(link)
	var secret string
	if err == nil {
		_, secret, _ = strings.Cut(u.Path, "/enrol/")
	}
	if err != nil || secret == "" || u.Host == "" {
		return "", errors.New("this is not a link for enrolling a collector; the Machines page makes one, as http://HOST:PORT/enrol/…")
	}
	folder, err := identity.Open(dir, 0)
	if err != nil {
		return "", err
	}
	defer folder.Close()
	base := &url.URL{Scheme: u.Scheme, Host: u.Host}
	x, err := identity.New(base.String())
	if err != nil {
		return "", err
	}
	c := collector.NewClient(base, nil, nil)
	body, err := json.Marshal(api.EnrolIn{Link: secret, PublicKey: x.PublicKey()})
	if err != nil {
		return "", err
	}
	var out api.CollectorNameIn
	if err := c.Send(ctx, "collector/enrol", nil, "application/json", "", body, &out); err != nil {
		return "", err
	}
	x.Name = out.Name
	return x.Name, folder.Save(x)
}
