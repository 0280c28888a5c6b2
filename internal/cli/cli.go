// Package cli is the command line: commands in front of the API client.
//
// How it talks. Results, and nothing else, go to standard output: a table for
// people, or with --output json, yaml or csv something for programs. What
// happened, progress and what to do next go to standard error. It asks only
// when a person is typing. Exit status:
//
//	0  done, or everything is as declared
//	1  it did not work
//	2  the command was used wrongly
//	3  drift was found
//	4  some steps of a round did not succeed
//	5  the record holds, and there are rows beside it that no service wrote
//	130  it was interrupted
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hen-roost/internal/client"
	"hen-roost/internal/core/declare"
)

// Exit statuses.
const (
	exitFailed = 1
	exitWrong  = 2
	exitDrift  = 3
	exitSteps  = 4
	exitStray  = 5 // the record holds, and there are rows beside it that no service wrote

	exitInterrupted = 130 // as shells have it
)

// exit is an error that has been told already, or needs no telling, with its status.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit status %d", e.code) }

// wrong is wrong use of a command.
type wrong struct{ error }

// Env is what the command line touches of the world.
type Env struct {
	In       io.Reader
	Out, Err io.Writer
	Terminal bool                // a person is typing: prompts and progress are welcome
	Width    int                 // of the terminal that shows the results; 0: as wide as they come
	Getenv   func(string) string // settings from the environment
	Version  string
}

// System is the environment of this process.
func System(version string) Env {
	width, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil {
		width = 0 // not a terminal: nothing is cut
	}
	return Env{Width: width, In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, Version: version,
		Terminal: term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stderr.Fd()))}
}

// app is what all commands share.
type app struct {
	Env
	output  string
	raw     io.Writer       // standard error as it is, for what we draw there ourselves
	signing sync.Mutex      // held while it is made
	signed  *client.Client  // in use since the first request: one connection for all of a command's
	ctx     context.Context // of the command: it ends when somebody interrupts
}

// Run carries out one command line and returns the exit status.
func Run(ctx context.Context, env Env, args []string) int {
	root, a := build(env)
	defer func() {
		if a.signed != nil {
			a.signed.Close()
		}
	}()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	var e exit
	var w wrong
	switch {
	case err == nil:
		return 0
	case errors.As(err, &e):
		return e.code
	case errors.As(err, &w), strings.HasPrefix(err.Error(), "unknown command"), strings.HasPrefix(err.Error(), "required flag"):
		fmt.Fprintf(&forTerminal{to: env.Err}, "roost: %s\n", better(root, err))
		return exitWrong
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		return exitInterrupted
	}
	var stranger *client.StrangerError
	if errors.As(err, &stranger) && stranger.Accepted == "" {
		fmt.Fprintf(&forTerminal{to: env.Err}, "roost: %v\nCompare it with what the service prints at its start, then: roost sign-in "+
			"SERVER --fingerprint %s\n", err, stranger.Print)
		return exitFailed
	}
	fmt.Fprintf(&forTerminal{to: env.Err}, "roost: %v\n", err)
	return exitFailed
}

// libraryWords are messages of the library for options, and how we say them.
var libraryWords = []struct {
	is   *regexp.Regexp
	says string
}{
	{regexp.MustCompile(`accepts (\d+) arg\(s\), received (\d+)`), "it takes $1 names or values, and got $2"},
	{regexp.MustCompile(`accepts at most (\d+) arg\(s\), received (\d+)`), "it takes at most $1 names or values, and got $2"},
	{regexp.MustCompile(`requires at least (\d+) arg\(s\), only received (\d+)`), "it takes at least $1 names or values, and got $2"},
	{regexp.MustCompile(`accepts between (\d+) and (\d+) arg\(s\), received (\d+)`), "it takes $1 to $2 names or values, and got $3"},
	{regexp.MustCompile(`required flag\(s\) "([a-z-]+)" not set`), "--$1 is missing"},
	{regexp.MustCompile(`required flag\(s\) "([a-z-]+)", "([a-z-]+)" not set`), "--$1 and --$2 are missing"},
	{regexp.MustCompile(`unknown flag: (--[^\s;]+)`), "there is no option $1"},
	{regexp.MustCompile(`unknown shorthand flag: '(.)' in \S+`), "there is no option -$1"},
	{regexp.MustCompile(`flag needs an argument: (?:'.' in )?(--?[a-zA-Z-]+)`), "the option $1 needs a value"},
	{regexp.MustCompile(`invalid argument ("[^"]*") for ("[^"]*") flag: .*?(; see|$)`), "$1 is no value for $2$3"},
}

// better says an error of the command line in our words, and names the nearest command when one is mistyped.
func better(root *cobra.Command, err error) string {
	var name string
	if _, scan := fmt.Sscanf(err.Error(), "unknown command %q", &name); scan != nil {
		words := err.Error()
		for _, p := range libraryWords {
			words = p.is.ReplaceAllString(words, p.says)
		}
		return strings.NewReplacer("takes 1 names or values", "takes one name or value", "and got 0", "and got none").Replace(words)
	}
	var known []string
	for _, c := range root.Commands() {
		known = append(known, c.Name())
	}
	if n := declare.Nearest(name, known); n != "" {
		return fmt.Sprintf("there is no command %q; did you mean %q?", name, n)
	}
	return fmt.Sprintf("there is no command %q; roost --help lists them", name)
}

// New builds the tree of commands.
func New(env Env) *cobra.Command {
	root, _ := build(env)
	return root
}

func build(env Env) (*cobra.Command, *app) {
	a := &app{Env: env, raw: env.Err, ctx: context.Background()}
	a.Err = &forTerminal{to: env.Err}
	root := &cobra.Command{
		Use:   "roost",
		Short: "Declare users, groups and roles once; bring them to every target",
		Long: `Hen Roost keeps who may sign in to what as you declared it, on hosts, directories and more.

The order of the work: declare, survey, drift, draft, approve, run. Every act is in the record.`,
		SilenceErrors: true, SilenceUsage: true,
	}
	root.SetIn(env.In)
	root.SetOut(env.Out)
	root.SetErr(a.Err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return wrong{fmt.Errorf("%w; see: %s --help", err, c.CommandPath())}
	})
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table for people; json, yaml or csv for programs")
	root.PersistentPreRunE = func(c *cobra.Command, _ []string) error {
		a.ctx = c.Context()
		if a.forPeople() || env.Width > 0 { // what a program reads is left as it is, unless it is a terminal's that shows it
			a.Out = &forTerminal{to: env.Out}
		}
		return a.checkOutput()
	}
	root.AddGroup(&cobra.Group{ID: "work", Title: "The work:"}, &cobra.Group{ID: "look", Title: "Looking:"},
		&cobra.Group{ID: "keep", Title: "Keeping Hen Roost itself:"})
	for group, list := range map[string][]*cobra.Command{
		"work": {a.check(), a.declare(), a.edit(), a.importUsers(), a.intake(), a.survey(), a.drift(), a.adopt(), a.accept(), a.giveUp(),
			a.assign(), a.draft(),
			a.bulk(), a.approve(), a.run(), a.stop(), a.undo(), a.reconcile(), a.join(), a.allot(), a.move(), a.rename(), a.leave(),
			a.rotate(), a.unlock(),
			a.suspend(), a.extend(), a.restore(), a.commission()},
		"look": {a.user(), a.target(), a.dialect(), a.pool(), a.round(), a.revision(), a.finding(), a.decision(), a.suspension(),
			a.handover(),
			a.ending(),
			a.home(), a.fleet(), a.compare(), a.explain(), a.export(),
			a.watch(), a.record()},
		"keep": {a.serve(), a.demo(), a.signIn(), a.signOut(), a.passwords(), a.authority(), a.secret(), a.operator(), a.token(),
			a.version()},
	} {
		for _, c := range list {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	root.AddCommand(a.openapi())
	usage(root)
	return root, a
}

// file is where a text goes that is to be kept as it is: on a terminal it is cleaned like all else.
func (a *app) file() io.Writer {
	if a.Width > 0 {
		return a.Out
	}
	if t, ok := a.Out.(*forTerminal); ok {
		return t.to
	}
	return a.Out
}

// usage makes wrong arguments say how the command is meant.
func usage(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := check(c, args); err != nil {
				return wrong{fmt.Errorf("%s: %w; see: %s --help", c.CommandPath(), err, c.CommandPath())}
			}
			return nil
		}
	}
	if c.HasSubCommands() && !c.Runnable() && c.HasParent() {
		noun(c)
	}
	for _, sub := range c.Commands() {
		usage(sub)
	}
}

// noun makes a command that only has others below it refuse a word that is none of them.
func noun(c *cobra.Command) {
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		var known []string
		for _, sub := range c.Commands() {
			known = append(known, sub.Name())
		}
		lacks := fmt.Sprintf("%s has no command %q", c.CommandPath(), args[0])
		words := declare.Meant(lacks, args[0], known)
		if words == lacks { // there are too many to list
			words += "; see: " + c.CommandPath() + " --help"
		}
		return wrong{errors.New(words)}
	}
}

// tell writes a sentence for people, on standard error.
func (a *app) tell(format string, args ...any) { fmt.Fprintf(a.Err, format+"\n", args...) }

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Print the version", Args: cobra.NoArgs, Example: "  roost version",
		RunE: func(*cobra.Command, []string) error {
			return a.show(map[string]string{"version": a.Version},
				table{head: []string{"version"}, rows: [][]string{{a.Version}}, bare: "Hen Roost " + a.Version})
		}}
}
