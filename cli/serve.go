package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/net/netutil"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
)

func (a *program) serveCommand() *cobra.Command {
	var listen, cert, key string
	cmd := &cobra.Command{
		Use:   "serve [REPO]",
		Short: "Serve a local repository over HTTP",
		Long: `Serve a local repository over HTTP/1.1 and HTTP/2, until Ctrl-C. Clients read the index
and packages, whole or in ranges; files that never change are marked as cacheable.
Browsers get the pages that publish writes.

It listens on this machine only, unless --listen says otherwise. With --cert and --key
it uses TLS. Any web server that serves the directory works as well.`,
		Example: `  ellwand serve local
  ellwand serve local --listen :8400`,
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (cert == "") != (key == "") {
				return usageError{errors.New("--cert and --key go together")}
			}
			_, r, err := a.openRepository(args, "")
			if err != nil {
				return err
			}
			dir, ok := r.Storage.LocalPath()
			if !ok {
				return fmt.Errorf("%s is on a server already; a repository in a directory can be served", r.Storage.Where())
			}
			return a.serve(cmd.Context(), dir, listen, cert, key)
		},
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:8400", "the `ADDRESS` and port to listen on; port 0 takes a free one")
	cmd.Flags().StringVar(&cert, "cert", "", "a `FILE` with a certificate, for TLS")
	cmd.Flags().StringVar(&key, "key", "", "a `FILE` with its key")
	return cmd
}

func (a *program) serve(ctx context.Context, dir, listen, cert, key string) error {
	files, err := repo.NewServer(dir)
	if err != nil {
		return err
	}
	defer files.Close()
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	var protocols http.Protocols
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(true)
	server := &http.Server{Handler: a.logged(files), Protocols: &protocols, ReadHeaderTimeout: 20 * time.Second, ReadTimeout: 20 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
	listener = netutil.LimitListener(listener, maxConnections)
	scheme := "http"
	if cert != "" {
		scheme = "https"
	}
	address := fmt.Sprintf("%s://%s/", scheme, listener.Addr())
	if a.json {
		err = a.printJSON(map[string]string{"address": address, "repository": dir})
	} else {
		a.out.Printf("%s is at %s until Ctrl-C\n", dir, a.out.Style(term.Name, address))
	}
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() {
		// Downloads under way may end, but not for ever.
		ending, cancel := context.WithTimeout(context.Background(), patience/2)
		defer cancel()
		if server.Shutdown(ending) != nil {
			server.Close()
		}
	})
	defer stop()
	if cert != "" {
		err = server.ServeTLS(listener, cert, key)
	} else {
		err = server.Serve(listener)
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil // Ctrl-C is how it ends
	}
	return err
}

// maxConnections bounds the clients that are served at once; others wait.
const maxConnections = 512

// logged notes each request, with -v.
func (a *program) logged(next http.Handler) http.Handler {
	if !a.verbose {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r)
		a.progress.Note(fmt.Sprintf("%s %s %s %s", r.RemoteAddr, r.Proto, r.Method, fact.Visible(r.URL.Path)))
	})
}
