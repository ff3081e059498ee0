package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unlatch/core/ground/settings"
)

// configFlag names the flag for the configuration file. It cannot be set in a file.
const configFlag = "config"

// secretSettings are settings without a flag, whose values a list of processes would show to everybody.
var secretSettings = []settings.Setting{
	{Name: "metrics-token", Usage: "token that opens /metrics; without one there is no such page", Secret: true},
	{Name: "oidc-secret", Usage: "secret that the provider of single sign-on has given to this server", Secret: true},
}

// flagless are the values of secretSettings, by name.
type flagless map[string]string

// knownSettings lists what a configuration file can set: the flags of the server and of its workers, and the secrets. A command passes over
// those of another.
func knownSettings() []settings.Setting {
	known := append([]settings.Setting(nil), secretSettings...)
	seen := map[string]bool{configFlag: true, "help": true}
	for _, c := range []*cobra.Command{serveCommand(), workerCommand()} {
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if seen[f.Name] {
				return
			}
			seen[f.Name] = true
			_, list := f.Value.(pflag.SliceValue)
			s := settings.Setting{Name: f.Name, Usage: strings.ReplaceAll(f.Usage, "`", ""), Default: f.DefValue, List: list,
				Secret: f.Name == "database"}
			if list {
				s.Default = ""
			}
			known = append(known, s)
		})
	}
	return known
}

// configure sets those flags of a command that its command line did not: from the environment, from the credentials that systemd hands
// over, and from the configuration file, in that order. It returns the settings that have no flag.
func configure(c *cobra.Command) (flagless, error) {
	known := knownSettings()
	file, err := readConfig(configPath(c.Flags()), known)
	if err != nil {
		return nil, err
	}
	found := flagless{}
	for _, s := range known {
		flag := c.Flags().Lookup(s.Name)
		if flag != nil && flag.Changed {
			continue
		}
		if flag == nil && !slices.Contains(secretSettings, s) {
			continue // another command's
		}
		texts, wrong, err := valueOf(s, file)
		if err != nil {
			return nil, err
		}
		if texts == nil {
			continue
		}
		if flag == nil {
			found[s.Name] = texts[0]
			continue
		}
		if err := set(flag, texts); err != nil {
			return nil, usageError{wrong(err)}
		}
	}
	return found, nil
}

// valueOf finds the value of a setting; texts is nil where nothing sets it. wrong makes an error of what is wrong with the value that names
// where it stands and not the value, which may be a secret.
func valueOf(s settings.Setting, file []settings.Value) (texts []string, wrong func(error) error, err error) {
	variable := settings.Variable(s.Name)
	if text := os.Getenv(variable); text != "" {
		return []string{text}, func(err error) error { return fmt.Errorf("the environment variable %s: %w", variable, err) }, nil
	}
	if folder := os.Getenv("CREDENTIALS_DIRECTORY"); folder != "" {
		raw, err := os.ReadFile(filepath.Join(folder, s.Name))
		if err == nil {
			return []string{strings.TrimSpace(string(raw))}, func(err error) error { return fmt.Errorf("the credential %s: %w", s.Name, err) }, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, nil, fmt.Errorf("the credential %s cannot be read: %w", s.Name, err)
		}
	}
	for _, v := range file {
		if v.Name == s.Name {
			return v.Texts, func(err error) error { return v.At(err.Error()) }, nil
		}
	}
	return nil, nil, nil
}

// set gives a flag its values.
func set(f *pflag.Flag, texts []string) error {
	if list, ok := f.Value.(pflag.SliceValue); ok {
		return list.Replace(texts)
	}
	if err := f.Value.Set(texts[0]); err != nil {
		return fmt.Errorf("this takes %s: %w", article(f.Value.Type()), err)
	}
	return nil
}

// article names the kind of value that a flag takes.
func article(kind string) string {
	switch kind {
	case "bool":
		return "true or false"
	case "int":
		return "a number"
	case "duration":
		return "a time such as 90s or 1h"
	default:
		return "another value"
	}
}

// configPath returns the configuration file that a command was given; "" for none.
func configPath(f *pflag.FlagSet) string {
	if flag := f.Lookup(configFlag); flag != nil && flag.Changed {
		return flag.Value.String()
	}
	return os.Getenv(settings.Variable(configFlag))
}

// readConfig reads a configuration file; "" for none.
func readConfig(path string, known []settings.Setting) ([]settings.Value, error) {
	if path == "" {
		return nil, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, usageError{fmt.Errorf("the configuration file cannot be read: %w", err)}
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, settings.MostBytes+1))
	if err != nil {
		return nil, fmt.Errorf("the configuration file cannot be read: %w", err)
	}
	values, err := settings.Read(raw, known)
	if err != nil {
		return nil, usageError{fmt.Errorf("%s: %w", path, err)}
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if held := settings.Secrets(values); len(held) > 0 && info.Mode().Perm()&0o007 != 0 {
		return nil, usageError{fmt.Errorf("%s holds a secret (%s) and may be read by everybody on this machine; run: chmod o= %s", path,
			strings.Join(held, ", "), path)}
	}
	return values, nil
}

func configCommand() *cobra.Command {
	c := &cobra.Command{Use: "config", Short: "Check the configuration file of the server, or write a new one", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cmd.Usage()
			return usageError{errors.New("say what to do: check or write")}
		}}
	c.AddCommand(configCheckCommand(), &cobra.Command{Use: "write", Args: noArgs,
		Short: "Print a configuration file that names every setting and sets none",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := cmd.OutOrStdout().Write(settings.Write(knownSettings()))
			return err
		}})
	return c
}

func configCheckCommand() *cobra.Command {
	return &cobra.Command{Use: "check [FILE]", Short: "Say whether a configuration file is right, and where it is not",
		Long: "Check reads a configuration file as the server would, the one of UNLATCH_CONFIG where none is named, and says with line and\n" +
			"column what is wrong. Exit 0 when it is right, 2 when it is not.",
		RunE: func(cmd *cobra.Command, args []string) error {
			path := configPath(cmd.Flags())
			switch {
			case len(args) == 1:
				path = args[0]
			case len(args) > 1 || path == "":
				return usageError{errors.New("check takes one file, such as /etc/unlatch/unlatch.yaml")}
			}
			values, err := readConfig(path, knownSettings())
			if err != nil {
				return err
			}
			if err := tryOut(values); err != nil {
				return usageError{fmt.Errorf("%s: %w", path, err)}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is right: it sets %s.\n", path, named(values))
			return nil
		}}
}

// tryOut gives the values to the flags of a server and of a worker that are not started, and checks what they mean together.
func tryOut(values []settings.Value) error {
	p := &place{}
	serves, works := &cobra.Command{}, workerCommand()
	p.flags(serves, true)
	for _, v := range values {
		for _, c := range []*cobra.Command{serves, works} {
			if f := c.Flags().Lookup(v.Name); f != nil {
				if err := set(f, v.Texts); err != nil {
					return v.At(err.Error())
				}
			}
		}
	}
	p.flagless = flagless{"oidc-secret": "some"} // it stands elsewhere, most likely
	return p.check()
}

// named lists the names of values.
func named(values []settings.Value) string {
	names := make([]string, len(values))
	for i, v := range values {
		names[i] = v.Name
	}
	if len(names) == 0 {
		return "nothing"
	}
	return strings.Join(names, ", ")
}
