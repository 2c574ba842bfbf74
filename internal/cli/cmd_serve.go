package cli

import (
	"context"
	"fmt"
	"net"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"piedmont/internal/cli/term"
	"piedmont/internal/kinds"
	"piedmont/internal/serve"
	"piedmont/internal/serve/api"
)

func (a *app) serve() *cli.Command {
	var data, listen, address string
	dataFlag := func() cli.Flag {
		return &cli.StringFlag{Name: "data", Usage: "keep everything in the folder `DIR`", Destination: &data,
			Local: true}
	}
	return &cli.Command{
		Name: "serve", Category: groupServe,
		Usage: "runs a release page: takes releases from those with a token, shows them to all",
		Description: "It prints its address and runs until it is interrupted; running uploads may\n" +
			"finish then. It speaks plain HTTP: put a server with TLS before it when others\n" +
			"reach it over a network, and tell it that address with --address.",
		Flags: []cli.Flag{dataFlag(),
			&cli.StringFlag{Name: "listen", Usage: "listen at `HOST:PORT`; port 0 takes a free one",
				Value: "127.0.0.1:8730", Destination: &listen},
			&cli.StringFlag{Name: "address",
				Usage: "the `URL` at which readers reach it, for links in the feed", Destination: &address},
		},
		Metadata: example("piedmont serve --data pages --listen 127.0.0.1:8730"),
		Commands: []*cli.Command{a.tokenCommand(&data, dataFlag)},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c, c.Args().First())
			}
			if data == "" {
				return usage("\"piedmont serve\" needs --data DIR, the folder that holds the releases")
			}
			return a.runServe(ctx, data, listen, address)
		},
	}
}

func (a *app) runServe(ctx context.Context, data, listen, address string) error {
	server, err := serve.New(ctx, serve.Options{Data: a.path(data), Address: address,
		Limits: serve.DefaultLimits, Log: a.log,
		Present: kinds.New(kinds.Options{}).Present})
	if err != nil {
		return err
	}
	defer func() { _ = server.Close() }()
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listen at %s: %w", listen, err)
	}
	a.screen.Print("http://%s/", l.Addr())
	if !a.quiet {
		a.screen.Say("The release page of %s; Ctrl-C ends it", data)
		if list, err := serve.OpenTokens(a.path(data)).List(); err == nil && len(list) == 0 {
			a.screen.Say("Nobody can publish yet: make a token with \"piedmont serve token new NAME --data "+
				"%s --project PROJECT\"", data)
		}
	}
	return server.Serve(ctx, l)
}

func (a *app) log(line string) {
	a.screen.Say("%s %s", time.Now().UTC().Format(time.RFC3339), line)
}

func (a *app) tokenCommand(data *string, dataFlag func() cli.Flag) *cli.Command {
	var projects, rights []string
	need := func(c *cli.Command, what string) (string, *serve.Tokens, error) {
		if *data == "" {
			return "", nil, usage(fmt.Sprintf("%q needs --data DIR, the folder of the release page", c.FullName()))
		}
		if what == "" {
			return "", serve.OpenTokens(a.path(*data)), noArgs(c)
		}
		name, err := oneArg(c, what)
		return name, serve.OpenTokens(a.path(*data)), err
	}
	return &cli.Command{
		Name: "token", Usage: "makes, lists and ends the tokens of a release page",
		Metadata: example("piedmont serve token list --data pages"),
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c, c.Args().First())
			}
			return cli.ShowSubcommandHelp(c)
		},
		Commands: []*cli.Command{
			{
				Name: "new", Usage: "makes a token and prints it, this once", ArgsUsage: "NAME",
				Description: "The page keeps only its hash. Hand it over where nobody else can read it.",
				Flags: []cli.Flag{dataFlag(),
					&cli.StringSliceFlag{Name: "project",
						Usage:       "allow the project `NAME`; may be given again; \"*\" is every project",
						Destination: &projects},
					&cli.StringSliceFlag{Name: "right",
						Usage: "give the `RIGHT` upload, publish or withdraw; may be given again; all of " +
							"them without", Destination: &rights},
				},
				Metadata: example("piedmont serve token new build-machine --data pages --project hutbell " +
					"--right upload --right publish"),
				Action: func(_ context.Context, c *cli.Command) error {
					name, tokens, err := need(c, "name for the token")
					if err != nil {
						return err
					}
					if len(projects) == 0 {
						return usage("a token needs --project NAME, or --project \"*\" for every project")
					}
					if len(rights) == 0 {
						rights = api.Rights
					}
					if info, err := os.Stat(a.path(*data)); err == nil && !info.IsDir() {
						return usage(*data + " is not a folder")
					}
					secret, err := tokens.Add(name, projects, rights, time.Now())
					if err != nil {
						return err
					}
					if a.json {
						return a.printJSON(map[string]any{"name": name, "token": secret, "projects": projects,
							"rights": rights})
					}
					a.screen.Print("%s", secret)
					return nil
				},
			},
			{
				Name: "list", Usage: "lists the tokens, without their secrets",
				Flags:    []cli.Flag{dataFlag()},
				Metadata: example("piedmont serve token list --data pages"),
				Action: func(_ context.Context, c *cli.Command) error {
					_, tokens, err := need(c, "")
					if err != nil {
						return err
					}
					list, err := tokens.List()
					if err != nil {
						return err
					}
					if a.json {
						if list == nil {
							list = []serve.Token{}
						}
						return a.printJSON(list)
					}
					if len(list) == 0 {
						a.screen.Say("There are no tokens yet")
						return nil
					}
					var rows [][]string
					for _, t := range list {
						rows = append(rows, []string{t.Name, strings.Join(t.Projects, ", "),
							strings.Join(t.Rights, ", "), t.Created.Format("2006-01-02")})
					}
					a.screen.Print("%s", a.screen.Table([]term.Column{{Title: "name"}, {Title: "projects"},
						{Title: "rights"}, {Title: "made"}}, rows))
					return nil
				},
			},
			{
				Name: "end", Usage: "ends a token at once", ArgsUsage: "NAME",
				Flags:    []cli.Flag{dataFlag()},
				Metadata: example("piedmont serve token end build-machine --data pages"),
				Action: func(_ context.Context, c *cli.Command) error {
					name, tokens, err := need(c, "name of a token")
					if err != nil {
						return err
					}
					if err := tokens.Remove(name); err != nil {
						return err
					}
					a.screen.Say("The token %q is no longer valid", name)
					return nil
				},
			},
		},
	}
}
