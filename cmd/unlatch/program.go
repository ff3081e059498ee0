package main

import (
	"crypto/ed25519"
	"crypto/sha256"
	"debug/buildinfo"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/core/ground/program"
	"unlatch/core/ground/release"
)

// programCommand is for the programs that are handed on to paired workers.
func programCommand() *cobra.Command {
	c := &cobra.Command{Use: "program", Short: "Hand the program on to workers at sites",
		Long: "Paired workers take a newer program from their server when somebody tells them to, on the page Server. They run none that is\n" +
			"not signed by the key that they trust: make it once, keep it away from the server, and give each machine its public half as\n" +
			"update-key in the settings of its worker.",
		RunE: sayWhat}
	c.AddCommand(programKeyCommand(), signProgramCommand(), offerProgramCommand())
	return c
}

func programKeyCommand() *cobra.Command {
	return &cobra.Command{Use: "key FILE", Short: "Make the key that programs are signed with", Args: cobra.ExactArgs(1),
		Long: "Key writes a new key into a file that nobody else may read, and prints its public half: the update-key of the workers.",
		RunE: func(cmd *cobra.Command, args []string) error {
			private, public, err := program.NewKey()
			if err != nil {
				return err
			}
			file, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			if _, err := file.Write(private); err != nil {
				return errors.Join(err, file.Close())
			}
			fmt.Fprintln(cmd.OutOrStdout(), public)
			return file.Close()
		}}
}

func signProgramCommand() *cobra.Command {
	var key, version, platform string
	c := &cobra.Command{Use: "sign PROGRAM", Short: "Sign a program for machines elsewhere", Args: cobra.ExactArgs(1),
		Long: "Sign writes PROGRAM.signed beside the program: the file unlatch of a package's tar, one for each processor.",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(key)
			if err != nil {
				return err
			}
			private, err := program.ReadKey(text)
			if err != nil {
				return err
			}
			if platform == "" {
				if platform, err = platformOf(args[0]); err != nil {
					return err
				}
			}
			system, arch, _ := strings.Cut(platform, "/")
			m := program.Manifest{Version: version, OS: system, Arch: arch}
			return signFile(cmd.OutOrStdout(), args[0], m, private)
		}}
	c.Flags().StringVar(&key, "key", "", "file with the key, as unlatch program key makes it")
	c.Flags().StringVar(&version, "version", release.Version, "version of the program")
	c.Flags().StringVar(&platform, "platform", "", "what it runs on, such as linux/arm64; read from the program where it is not given")
	return c
}

// platformOf reads from a program that Go has built what it runs on.
func platformOf(path string) (string, error) {
	info, err := buildinfo.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("what %s runs on cannot be read from it; give --platform: %w", path, err)
	}
	set := map[string]string{}
	for _, s := range info.Settings {
		set[s.Key] = s.Value
	}
	return set["GOOS"] + "/" + set["GOARCH"], nil
}

// signFile writes a signed program beside the program.
func signFile(out io.Writer, path string, m program.Manifest, key ed25519.PrivateKey) error {
	from, err := os.Open(path)
	if err != nil {
		return err
	}
	defer from.Close()
	sum := sha256.New()
	if m.Size, err = io.Copy(sum, from); err != nil {
		return err
	}
	m.SHA256 = sum.Sum(nil)
	head, err := program.Sign(key, m)
	if err != nil {
		return err
	}
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return err
	}
	to, err := os.Create(path + ".signed")
	if err != nil {
		return err
	}
	defer to.Close()
	if _, err := to.Write(append(head, '\n')); err != nil {
		return err
	}
	if err := m.Copy(to, from); err != nil {
		return err
	}
	fmt.Fprintf(out, "%s is version %s for %s, signed.\n", to.Name(), m.Version, m.Platform())
	return to.Close()
}

func offerProgramCommand() *cobra.Command {
	p := &place{}
	c := &cobra.Command{Use: "offer FILE...", Short: "Offer signed programs to paired workers", Args: cobra.MinimumNArgs(1),
		Long: "Offer puts signed programs where paired workers get them, once somebody tells them to on the page Server. It is run on the\n" +
			"server's machine, which may work meanwhile. The two versions that were offered last are kept.",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := p.openBeside(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			for _, path := range args {
				if err := offer(cmd, s, path); err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
			}
			return nil
		}}
	p.flags(c, false)
	return c
}

func offer(cmd *cobra.Command, s *services, path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	head, rest, err := program.Split(file)
	if err != nil {
		return err
	}
	m, err := s.Store.OfferProgram(cmd.Context(), head, rest)
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Version %s for %s is offered. Tell workers to take it on the page Server.\n", m.Version, m.Platform())
	return nil
}
