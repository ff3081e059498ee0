package main

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/paper"
)

// handoverFlags are how a version is to be made.
type handoverFlags struct {
	out, recipients, passphrase string
	labels                      bool
	language, paper             string
}

// handoverCommand makes a version of a site's handover pack and takes it along.
func handoverCommand() *cobra.Command {
	var f handoverFlags
	c := onServer(&cobra.Command{Use: "handover [SITE] --out DIR", Short: "Make a version of a site's handover pack, and keep its files",
		Args: cobra.MaximumNArgs(1),
		Long: "Handover makes a version of the site's pack on the server and writes its files into a folder that is not there yet.\n" +
			"With --recipients or --passphrase-file the sign-ins are sealed into it, which needs the right to reveal them.\n" +
			"Exit 0 when all files are there, 1 when not, 2 on wrong use. See docs/handover.md."},
		func(ctx context.Context, r *remote, args []string) error { return f.make(ctx, r, first(args)) })
	siteFlag(c)
	c.Flags().StringVar(&f.out, "out", "", "the folder to make")
	c.Flags().StringVar(&f.recipients, "recipients", "", "file of public keys of age, one a line, to which the sign-ins are sealed")
	c.Flags().StringVar(&f.passphrase, "passphrase-file", "", "file with the passphrase to which they are sealed")
	c.Flags().BoolVar(&f.labels, "labels", false, "make labels to stick on the cameras too")
	c.Flags().StringVar(&f.language, "language", "en", "of the papers: en or de")
	c.Flags().StringVar(&f.paper, "paper", "A4", "A4 or Letter")
	c.AddCommand(verifyPackCommand(), openPackCommand())
	return c
}

// body returns what is sent to the server.
func (f *handoverFlags) body() (map[string]any, error) {
	if f.out == "" {
		return nil, usageError{errors.New("say where the files go: --out DIR")}
	}
	if _, err := os.Stat(f.out); !errors.Is(err, fs.ErrNotExist) {
		return nil, usageError{fmt.Errorf("%s is there already: name a folder that is not", f.out)}
	}
	body := map[string]any{"language": f.language, "size": f.paper}
	if f.labels {
		body["labels"] = paper.LabelSheets[0]
	}
	for _, x := range []struct{ file, field string }{{f.recipients, "recipients"}, {f.passphrase, "passphrase"}} {
		if x.file == "" {
			continue
		}
		raw, err := readSmall(x.file)
		if err != nil {
			return nil, err
		}
		body[x.field] = strings.TrimRight(string(raw), "\r\n")
	}
	return body, nil
}

// readSmall reads a file that a person has written.
func readSmall(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	const most = 64 << 10
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && len(raw) > most {
		err = fmt.Errorf("%s is larger than %d kB", file, most>>10)
	}
	return raw, err
}

func (f *handoverFlags) make(ctx context.Context, r *remote, name string) error {
	body, err := f.body()
	if err != nil {
		return err
	}
	site, err := r.site(ctx, name)
	if err != nil {
		return err
	}
	body["base"] = r.Server()
	var made struct {
		runRow
		Version string `json:"version"`
	}
	if _, err := r.Call(ctx, "make-handover", of("site", site.id), body, &made); err != nil {
		return err
	}
	if _, _, err := r.follow(ctx, site.id, made.runRow, 40*time.Minute); err != nil {
		return err
	}
	var view struct {
		Versions []struct {
			ID, Hash, Failed string
			Number           int
			Made             bool
		} `json:"versions"`
	}
	raw, err := r.Call(ctx, "get-handover", of("site", site.id), nil, &view)
	if err != nil {
		return err
	}
	for _, v := range view.Versions {
		if v.ID != made.Version {
			continue
		}
		if !v.Made {
			return fmt.Errorf("version %d was not made: %s", v.Number, v.Failed)
		}
		if err := r.takePack(ctx, site.id, v.ID, f.out); err != nil {
			return err
		}
		return r.print(raw, func(w io.Writer) error {
			fmt.Fprintf(w, "Version %d of %s is in %s.\nSHA-256 of its manifest: %s\n", v.Number, site.name, f.out, v.Hash)
			return nil
		})
	}
	return fmt.Errorf("the version is not there")
}

// takePack writes the files of a version into a folder. They go into one beside it first: what is under the name is whole.
func (r *remote) takePack(ctx context.Context, site, version, out string) error {
	part, err := os.MkdirTemp(filepath.Dir(filepath.Clean(out)), ".handover-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(part)
	zipped, err := os.CreateTemp(part, "zip-")
	if err != nil {
		return err
	}
	defer zipped.Close()
	size, err := r.Save(ctx, "/api/sites/"+site+"/handover/versions/"+version+"/zip", zipped)
	if err != nil {
		return err
	}
	files, err := handover.Zip(zipped, size)
	if err != nil {
		return err
	}
	whole := filepath.Join(part, "pack")
	if err := unpack(files, whole); err != nil {
		return fmt.Errorf("keeping the files of the pack: %w", err)
	}
	return os.Rename(whole, out)
}

// unpack writes a pack into a folder.
func unpack(files fs.FS, into string) error {
	return fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		at := filepath.Join(into, filepath.FromSlash(path))
		switch {
		case err != nil:
			return err
		case d.IsDir():
			return os.MkdirAll(at, 0o755)
		}
		in, err := files.Open(path)
		if err != nil {
			return err
		}
		defer in.Close()
		mode := os.FileMode(0o644)
		if path == handover.SealedFile {
			mode = 0o600
		}
		out, err := os.OpenFile(at, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
		if err != nil {
			return err
		}
		if _, err := io.Copy(out, in); err != nil {
			out.Close()
			return err
		}
		return out.Close()
	})
}

// packAt opens a pack that lies in a folder or a zip file.
func packAt(path string) (files fs.FS, done func(), err error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, nil, err
	}
	if info.IsDir() {
		return os.DirFS(path), func() {}, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, err
	}
	files, err = handover.Zip(f, info.Size())
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return files, func() { f.Close() }, nil
}

func onePack(_ *cobra.Command, args []string) error {
	if len(args) != 1 {
		return usageError{errors.New("name the folder of the pack, or its zip file")}
	}
	return nil
}

// verifyPackCommand checks a pack without a server.
func verifyPackCommand() *cobra.Command {
	var chain string
	c := &cobra.Command{Use: "verify DIR", Short: "Check that a handover pack is as it was made", Args: onePack,
		Long: "Verify checks a pack in a folder or a zip file, without a server: the hash of each file, that none is missing and none was\n" +
			"added, the form of handover.json, the manifest, and the sign-off. Whoever writes a whole pack anew can make one that holds:\n" +
			"compare the hash of its manifest with the sign-off page or the record of whoever made it, or give it with --hash.\n" +
			"Exit 0 when it holds, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, done, err := packAt(args[0])
			if err != nil {
				return err
			}
			defer done()
			m, faults, err := handover.Verify(cmd.Context(), files)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if chain != "" && !strings.EqualFold(chain, m.Hash) {
				faults = append(faults, handover.Fault{Path: handover.ManifestFile, Problem: "its hash is not the one that was asked for"})
			}
			for _, f := range faults {
				fmt.Fprintln(out, f)
			}
			if len(faults) > 0 {
				return errNo
			}
			fmt.Fprintf(out, "All %d files are as they were made.\n%s, version %d, by %s on %s.\nSHA-256 of its manifest: %s\n"+
				"The record stood at line %d, with the hash %s.\n", len(m.Files), m.Name, m.Number, m.By, m.At.Format(time.RFC3339), m.Hash,
				m.Record.Number, m.Record.Hash)
			return nil
		}}
	c.Flags().StringVar(&chain, "hash", "", "the hash of the manifest, as the sign-off page or the record has it")
	return c
}

// openPackCommand makes a site of a pack on the server.
func openPackCommand() *cobra.Command {
	var secret string
	c := onServer(&cobra.Command{Use: "open DIR", Short: "Make a site of a handover pack that somebody else made", Args: onePack,
		Long: "Open checks a pack in a folder or a zip file and makes a site of it on the server: everything in it becomes intent, and\n" +
			"nothing counts as measured. Sealed sign-ins are opened with --secret-file, which holds a passphrase or a secret key of age.\n" +
			"Exit 0 when the site is made, 1 when not, 2 on wrong use."},
		func(ctx context.Context, r *remote, args []string) error {
			body := map[string]any{}
			if secret != "" {
				with, err := passphraseIn(secret)
				if err != nil {
					return err
				}
				body["secret"] = with.Reveal()
			}
			files, done, err := packAt(args[0])
			if err != nil {
				return err
			}
			defer done()
			if _, _, err := handover.Open(ctx, files); err != nil {
				return err
			}
			return r.openPack(ctx, files, body)
		})
	c.Flags().StringVar(&secret, "secret-file", "", "file with the passphrase or the secret key that opens the sealed sign-ins")
	return c
}

// secretOf returns the passphrase or the secret key of a file: a key file of age has comments above the key.
func secretOf(text string) string {
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "AGE-SECRET-KEY-") {
			return strings.TrimSpace(line)
		}
	}
	return strings.TrimRight(text, "\r\n")
}

func (r *remote) openPack(ctx context.Context, files fs.FS, body map[string]any) error {
	zipped, err := os.CreateTemp("", "unlatch-pack-")
	if err != nil {
		return err
	}
	defer os.Remove(zipped.Name())
	defer zipped.Close()
	z := zip.NewWriter(zipped)
	if err := z.AddFS(files); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	if _, err := zipped.Seek(0, io.SeekStart); err != nil {
		return err
	}
	var brought struct {
		ID       string   `json:"id"`
		Name     string   `json:"name"`
		Devices  int      `json:"devices"`
		Warnings []string `json:"warnings"`
	}
	if err := r.Send(ctx, "/api/packs", "application/zip", zipped, &brought); err != nil {
		return err
	}
	var site struct {
		ID string `json:"id"`
	}
	raw, err := r.Call(ctx, "open-pack", of("upload", brought.ID), body, &site)
	if err != nil {
		return err
	}
	return r.print(raw, func(w io.Writer) error {
		for _, x := range brought.Warnings {
			fmt.Fprintf(w, "Left out: %s\n", x)
		}
		fmt.Fprintf(w, "%s is a site now, with %d devices that nobody has heard here yet.\nFind them: unlatch sweep --site %q\n",
			brought.Name, brought.Devices, brought.Name)
		return nil
	})
}
