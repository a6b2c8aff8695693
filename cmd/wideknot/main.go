// Command wideknot designs tunnel overlays: on a document from the command
// line, or as a web application.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
)

// version is set by the build.
var version = "dev"

// exit is an error that carries the exit code of section 12 of the domain:
// 1 for findings of severity error, 2 for unusable input.
type exit struct {
	code int
	err  error // nil when everything was said already
}

func (e exit) Error() string {
	if e.err == nil {
		return fmt.Sprintf("exit %d", e.code)
	}
	return e.err.Error()
}

func unusable(err error) error { return exit{2, err} }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:]))
}

func run(ctx context.Context, arguments []string) int {
	root := &cobra.Command{
		Use:           "wideknot",
		Short:         "Design and operate tunnel overlays across many sites",
		Version:       version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.AddCommand(checkCommand(), deriveCommand(), allocateCommand(), keysCommand(), renderCommand(), traceCommand(), outageCommand(), diffCommand(), spaceCommand(), repairCommand(), importCommand(), sampleCommand(), serveCommand(), demoCommand(), backupCommand(), restoreCommand(), migrateCommand(), rotateKeyCommand(), openapiCommand(), schemaCommand(), noticesCommand(), gatewayCommand(), fleetCommand(), cloudInitCommand(), rolloutCommand(), whyCommand(), eventsCommand())
	root.SetArgs(arguments)
	err := root.ExecuteContext(ctx)
	var known exit
	switch {
	case err == nil:
		return 0
	case errors.As(err, &known):
		if known.err != nil {
			fmt.Fprintln(os.Stderr, "wideknot:", known.err)
		}
		return known.code
	}
	fmt.Fprintln(os.Stderr, "wideknot:", err)
	return 2
}
