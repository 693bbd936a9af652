package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

func isTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

// login is what genarch login keeps: where, and a token.
type login struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	// Insecure: its owner said that it may travel without TLS to another machine.
	Insecure bool `json:"insecure,omitempty"`
}

// loginFile is where the login is kept, readable by its owner alone.
func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for the login: %w", err)
	}
	return filepath.Join(dir, "genarch", "login.json"), nil
}

func readLogin() (login, error) {
	var l login
	file, err := loginFile()
	if err != nil {
		return l, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return l, err
	}
	return l, json.Unmarshal(text, &l)
}

// connect makes the client of a command: address and token from options or
// environment, else from the last login. Its token only ever goes to the
// address that it came from.
func (a app) connect(c *cli.Command) (*client.Client, error) {
	address, tokenFile := c.String("url"), c.String("token-file")
	if tokenFile != "" {
		if address == "" {
			return nil, usage("--token-file needs --url (or GENARCH_URL) beside it.")
		}
		if err := client.CheckAddress(address); err != nil {
			return nil, usage("%w", err)
		}
		text, err := os.ReadFile(tokenFile)
		if err != nil {
			return nil, fmt.Errorf("the token file: %w", err)
		}
		return client.New(address, strings.TrimSpace(string(text)))
	}
	l, err := readLogin()
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return nil, &exitError{ExitNotAllowed,
				errors.New("Nobody is signed in: genarch login URL, or for a program GENARCH_URL and GENARCH_TOKEN_FILE")}
		}
		return nil, fmt.Errorf("the login cannot be read: %w", err)
	}
	if address != "" && strings.TrimSuffix(address, "/") != l.URL {
		return nil, &exitError{ExitNotAllowed,
			fmt.Errorf("The login is for %s, not for %s: genarch login %s", l.URL, address, address)}
	}
	if err := client.CheckAddress(l.URL); err != nil && !l.Insecure {
		return nil, usage("%w", err)
	}
	return client.New(l.URL, l.Token)
}

func (a app) loginCommand() *cli.Command {
	return &cli.Command{
		Name: "login", Usage: "sign in; the token goes into a file of yours (mode 0600) and lasts 30 days",
		ArgsUsage: "URL",
		Arguments: []cli.Argument{&cli.StringArg{Name: "url"}},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "your name as an operator", DefaultText: "asked for"},
			&cli.StringFlag{Name: "password-file", Usage: "read the password from a file; - is standard input",
				DefaultText: "asked for"},
			&cli.BoolFlag{Name: "insecure",
				Usage: "send password and token without TLS to another machine, where anybody between can read them"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			address := c.StringArg("url")
			if address == "" {
				address = c.String("url")
			}
			if address == "" {
				return usage("Name the address: genarch login http://127.0.0.1:7437")
			}
			address = strings.TrimSuffix(address, "/")
			if err := client.CheckAddress(address); err != nil && !c.Bool("insecure") {
				return usage("%w, or --insecure if you know better", err)
			}
			name := c.String("name")
			var err error
			if name == "" {
				if name, err = a.ask("Name: "); err != nil {
					return err
				}
			}
			password, err := a.secret(c.String("password-file"), "Password: ")
			if err != nil {
				return err
			}
			api, err := client.New(address, "")
			if err != nil {
				return usage("%w", err)
			}
			host, _ := os.Hostname()
			s, err := api.SignIn(ctx, wire.SignIn{Name: name, Password: password, Token: "login on " + host})
			if err != nil {
				return err
			}
			if err := keepLogin(login{address, s.Token, c.Bool("insecure")}); err != nil {
				return err
			}
			for _, n := range s.Notices {
				a.say("%s  %s, at %s", caution.Render("CAUTION"), visible(n.Text), timeText(n.At))
			}
			fmt.Fprintf(a.Err, "signed in to %s as %s, with the permissions %s\n", address, s.Operator.Name,
				strings.Join(s.Operator.Permissions, ", "))
			return nil
		},
	}
}

func keepLogin(l login) error {
	file, err := loginFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	fresh := file + ".new"
	if err := os.WriteFile(fresh, append(text, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(fresh, file)
}

func (a app) logoutCommand() *cli.Command {
	return &cli.Command{
		Name: "logout", Usage: "forget the token of the last login, here and at Genarch",
		Action: func(ctx context.Context, c *cli.Command) error {
			file, err := loginFile()
			if err != nil {
				return err
			}
			if l, err := readLogin(); err == nil {
				a.revokeOwn(ctx, l)
			}
			if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			fmt.Fprintln(a.Err, "signed out")
			return nil
		},
	}
}

// revokeOwn ends the tokens of this host's logins. When Genarch cannot be
// reached the file is still removed.
func (a app) revokeOwn(ctx context.Context, l login) {
	api, err := client.New(l.URL, l.Token)
	if err != nil {
		return
	}
	s, err := api.Session(ctx)
	if err != nil {
		return
	}
	host, _ := os.Hostname()
	tokens, _ := api.Tokens(ctx)
	for _, t := range tokens {
		if t.Operator == s.Operator.Name && t.Title == "login on "+host && t.Revoked == nil {
			if err := api.RevokeToken(ctx, t.ID); err != nil {
				fmt.Fprintln(a.Err, "a token could not be revoked:", err)
			}
		}
	}
}

// errNoTerminal: a question has nobody to answer it.
var errNoTerminal = &exitError{ExitUnconfirmed, errors.New("There is no terminal to ask on.")}

// ask asks a question on the terminal.
func (a app) ask(question string) (string, error) {
	if !a.Terminal {
		return "", errNoTerminal
	}
	fmt.Fprint(a.Err, question)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && line == "" {
		return "", &exitError{ExitUnconfirmed, errors.New("Nothing was answered.")}
	}
	return strings.TrimSpace(line), nil
}

// secret reads a secret from a file, standard input (-) or a prompt that does
// not show it: never from an argument, for those are seen by everybody.
func (a app) secret(file, question string) (string, error) {
	var text []byte
	var err error
	switch {
	case file == "-":
		text, err = io.ReadAll(io.LimitReader(a.In, 1<<16))
	case file != "":
		text, err = os.ReadFile(file)
	case !a.Terminal:
		return "", usage("No secret was given: name a file with it, or - for standard input.")
	default:
		fmt.Fprint(a.Err, question)
		text, err = term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.Err)
	}
	if err != nil {
		return "", fmt.Errorf("the secret cannot be read: %w", err)
	}
	secret := strings.TrimRight(string(text), "\r\n")
	if secret == "" {
		return "", usage("The secret is empty.")
	}
	return secret, nil
}
