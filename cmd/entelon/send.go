package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/serving"
	"entelon/server/api"
)

func sendCommand() *cobra.Command {
	var to, tokenFile string
	c := &cobra.Command{
		Use:   "send FILE… --to URL",
		Short: "Send takes to a server",
		Long:  "Sends takes to a server, which keeps each whole or not at all. Sending one again changes nothing. The server asks for a token, which is read from a file that only its owner can read.",
		Example: `  entelon send engraved.take --to http://127.0.0.1:7420
  entelon send *.take --to https://perf.shop.example:7420 --token-file ci.token`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			base, err := serving.ServerAddress("--to", to)
			if err != nil {
				return err
			}
			secret, err := serving.Token(tokenFile)
			if err != nil {
				return err
			}
			for _, file := range args {
				out, err := send(cmd.Context(), base, secret, file)
				if err != nil {
					return err
				}
				what := "sent"
				if !out.Fresh {
					what = "was there already"
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s %s: %s\n", file, what, base.JoinPath("takes", out.Take.Key))
			}
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "http://127.0.0.1:7420", "the server's `URL`")
	c.Flags().StringVar(&tokenFile, "token-file", "", "the `FILE` with a token that has the role work, made on the page (default "+serving.TokenPlace()+")")
	c.ValidArgsFunction = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return []string{"take"}, cobra.ShellCompDirectiveFilterFileExt
	}
	return c
}

func send(ctx context.Context, base *url.URL, token, file string) (*api.AddedOut, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if st.IsDir() {
		return nil, fmt.Errorf("%s is a folder; give the takes in it", file)
	}
	u := base.JoinPath("api/v1/takes")
	u.RawQuery = url.Values{"name": {filepath.Base(file)}}.Encode()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, u.String(), io.NopCloser(f))
	if err != nil {
		return nil, fmt.Errorf("preparing to send: %w", err)
	}
	req.ContentLength = st.Size()
	req.Header.Set("Content-Type", "application/octet-stream")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%s does not answer; see whether a server runs there: %w", base.Host, errors.Unwrap(err))
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return nil, fmt.Errorf("reading the answer of %s: %w", base.Host, err)
	}
	if resp.StatusCode >= 300 {
		var e api.ErrorBody
		if err := json.Unmarshal(body, &e); err != nil || e.Error == "" {
			return nil, fmt.Errorf("%s answered %s; is it an Entelon server?", base.Host, resp.Status)
		}
		return nil, errors.New(strings.TrimSuffix(e.Error+"; "+e.Remedy, "; "))
	}
	var out api.AddedOut
	if err := json.Unmarshal(body, &out); err != nil || out.Take.Key == "" {
		return nil, fmt.Errorf("%s did not answer with a take; is it an Entelon server?", base.Host)
	}
	return &out, nil
}
