// Pages writes what goes into packages beside the program: a man page for each command,
// pages of the program's own languages from docs/formats.md, and completion for three
// shells. It runs when packages are built, and is no part of the program.
package main

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/cpuguy83/go-md2man/v2/md2man"
	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"tarnwold/internal/cli"
	"tarnwold/internal/cli/run"
)

// languages are the sections of docs/formats.md that have a page of their own.
var languages = []struct{ page, section, about string }{
	{"tarnwold-entries", "Entries", "entries, levels and scopes as they are written"},
	{"tarnwold-expectations", "Expectations", "files of what is expected of an estate"},
	{"tarnwold-policies", "Policies", "rules kept as a file"},
}

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "usage: pages DIR FORMATS.md DAY, the day as 2006-01-02")
		os.Exit(2)
	}
	if err := write(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "pages:", err)
		os.Exit(1)
	}
}

func write(dir, formats, day string) error {
	date, err := time.Parse(time.DateOnly, day)
	if err != nil {
		return err
	}
	for _, sub := range []string{"man1", "man5", "completion"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return err
		}
	}
	root := cli.Commands(&run.App{Commands: cli.Commands})
	root.DisableAutoGenTag = true
	if err := commands(root, dir, date); err != nil {
		return err
	}
	text, err := os.ReadFile(formats)
	if err != nil {
		return err
	}
	for _, l := range languages {
		body, err := section(string(text), l.section)
		if err != nil {
			return err
		}
		head := fmt.Sprintf("%% %s 5 \"%s\" \"Tarnwold\" \"File formats\"\n# NAME\n%s - %s\n\n# DESCRIPTION\n%s\n\n# SEE ALSO\n**tarnwold(1)**\n", strings.ToUpper(l.page), date.Format("Jan 2006"), l.page, l.about, body)
		if err := packed(filepath.Join(dir, "man5", l.page+".5"), md2man.Render([]byte(head))); err != nil {
			return err
		}
	}
	return completion(root, filepath.Join(dir, "completion"))
}

// commands writes a page for each command that there is help for.
func commands(c *cobra.Command, dir string, date time.Time) error {
	if !c.IsAvailableCommand() && c.HasParent() || c.IsAdditionalHelpTopicCommand() {
		return nil
	}
	for _, sub := range c.Commands() {
		if err := commands(sub, dir, date); err != nil {
			return err
		}
	}
	var page bytes.Buffer
	if err := doc.GenMan(c, &doc.GenManHeader{Section: "1", Date: &date, Source: "Tarnwold", Manual: "Tarnwold"}, &page); err != nil {
		return err
	}
	return packed(filepath.Join(dir, "man1", strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"), page.Bytes())
}

// section gives what is below a head of the second rank, without the head.
func section(text, name string) (string, error) {
	_, after, ok := strings.Cut(text, "\n## "+name)
	if !ok {
		return "", fmt.Errorf("there is no section %q", name)
	}
	_, after, _ = strings.Cut(after, "\n")
	body, _, _ := strings.Cut(after, "\n## ")
	return body, nil
}

// packed writes a page as man pages are kept, the same bytes each time.
func packed(file string, page []byte) error {
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(page); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(file+".gz", out.Bytes(), 0o644)
}

func completion(root *cobra.Command, dir string) error {
	var bash, zsh, fish bytes.Buffer
	for _, err := range []error{root.GenBashCompletionV2(&bash, true), root.GenZshCompletion(&zsh), root.GenFishCompletion(&fish, true)} {
		if err != nil {
			return err
		}
	}
	for name, text := range map[string][]byte{"tarnwold": bash.Bytes(), "_tarnwold": zsh.Bytes(), "tarnwold.fish": fish.Bytes()} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}
