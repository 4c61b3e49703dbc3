package govern

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/report/changes"
)

// What nights leave in folders, by the day in its name.
var (
	nightPage   = regexp.MustCompile(`^` + nightName + `(\d{4}-\d{2}-\d{2})\.(?:html|json)$`)
	nightEstate = regexp.MustCompile(`^estate-(\d{4}-\d{2}-\d{2})\.estate$`)
)

// nightBackup writes the estate into a folder, in place of what was written there earlier on
// the same day, and takes away what is older than is to be kept: once the new one is whole.
func nightBackup(a *run.App, c *cobra.Command, out *changes.Night, n *night, now time.Time) error {
	s := out.Section("backup", "The backup")
	file := filepath.Join(n.backup, "estate-"+now.Format(time.DateOnly)+".estate")
	if err := backUp(a, c, n.backup, file); err != nil {
		if c.Context().Err() != nil {
			return err
		}
		s.Add(file, file, err.Error(), true)
		return nil
	}
	s.Fine = append(s.Fine, file)
	if err := prune(n.backup, nightEstate, n.backups, now); err != nil {
		s.Add(n.backup, n.backup, err.Error(), true)
	}
	return nil
}

func backUp(a *run.App, c *cobra.Command, dir, file string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	e, done, err := a.Open(c.Context())
	if err != nil {
		return err
	}
	defer done()
	part := file + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) { // a night that was killed
		return err
	}
	if err := e.Backup(c.Context(), part); err != nil {
		return err
	}
	return os.Rename(part, file)
}

// prune takes away what nights left in a folder, but for that of the last so many days that
// there is anything of; 0: nothing goes. What is called otherwise, or is no file, stays.
func prune(dir string, name *regexp.Regexp, keep int, now time.Time) error {
	if keep == 0 {
		return nil
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	by := map[string][]string{}
	var days []string
	for _, f := range list {
		m := name.FindStringSubmatch(f.Name())
		if m == nil || !f.Type().IsRegular() {
			continue
		}
		if by[m[1]] == nil {
			days = append(days, m[1])
		}
		by[m[1]] = append(by[m[1]], f.Name())
	}
	slices.Sort(days)
	for _, day := range days[:max(0, len(days)-keep)] {
		if day == now.Format(time.DateOnly) { // others are of days to come, by a clock that was wrong
			continue
		}
		for _, f := range by[day] {
			if err := os.Remove(filepath.Join(dir, f)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("an old night's file can't be taken away: %w", err)
			}
		}
	}
	return nil
}
