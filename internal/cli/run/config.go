package run

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/settings"
)

// ConfigEnv names the one file of settings that is read, in place of the machine's and the
// user's; empty: none is.
const ConfigEnv = "TARNWOLD_CONFIG"

// machines is the machine's file of settings.
const machines = "/etc/tarnwold/config.yaml"

// ConfigFiles lists the files that settings are read from, those that count less first.
func ConfigFiles() (files []string) {
	if one, said := os.LookupEnv(ConfigEnv); said {
		if one == "" {
			return nil
		}
		return []string{one}
	}
	files = []string{machines}
	if dir, err := os.UserConfigDir(); err == nil && filepath.IsAbs(dir) {
		files = append(files, filepath.Join(dir, "tarnwold", "config.yaml"))
	}
	return files
}

// ReadConfig reads what is set, once. What is set later counts; a file named by the
// environment must be there.
func (a *App) ReadConfig() {
	set := map[string]settings.Setting{}
	_, said := os.LookupEnv(ConfigEnv)
	for _, file := range ConfigFiles() {
		list, err := readConfig(file)
		if errors.Is(err, fs.ErrNotExist) && !said {
			continue
		}
		if err != nil {
			a.configErr = err
			return
		}
		for _, s := range list {
			if _, there := set[s.Name()]; !there {
				a.order = append(a.order, s.Name())
			}
			set[s.Name()] = s
		}
	}
	a.set = set
}

// readConfig reads a file that nobody else but its owner, who is the user or root, may write.
func readConfig(file string) ([]settings.Setting, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular() && file != os.DevNull:
		return nil, &estate.Refused{Why: file + " is not a file of settings: it is not a regular file"}
	case info.Mode().Perm()&0o022 != 0 && file != os.DevNull:
		return nil, &estate.Refused{Why: "others than its owner can write " + file + ", and it says what is done here", Do: "chmod go-w " + file}
	case !trusted(info):
		return nil, &estate.Refused{Why: file + " belongs to somebody else, and it says what is done here", Do: ConfigEnv + "= reads none"}
	}
	return settings.Read(f, file)
}

// Setting gives what is set by a key; "" is nothing.
func (a *App) Setting(key string) string {
	if s, ok := a.set[key]; ok {
		return s.Values[0]
	}
	return ""
}

// Yes tells whether something is as it is unless it is set to no.
func (a *App) Yes(key string) bool {
	yes, ok := settings.YesNo(a.Setting(key))
	return yes || !ok
}

// Settings lists what is set, in the order of the files.
func (a *App) Settings() (list []settings.Setting) {
	for _, name := range a.order {
		list = append(list, a.set[name])
	}
	return list
}

// unset are flags that are said each time, or not at all.
var unset = map[string]bool{"yes": true, "force": true, "dry-run": true, "help": true, "model-only": true, "access-too": true, "save": true, "ldif": true, "as": true, "estate": true, "format": true, "no-pager": true}

// Configured takes what is set for the command that is run, where its flags don't say it, and
// refuses settings that mean nothing.
func (a *App) Configured(c *cobra.Command) error {
	if a.configErr != nil {
		return a.configErr
	}
	for _, s := range a.Settings() {
		if s.Key[0] != "commands" {
			continue
		}
		wrong := func(what string, args ...any) error {
			return &format.Error{File: s.File, Line: s.Line, Column: s.Column, What: fmt.Sprintf(what, args...)}
		}
		of, rest, err := c.Root().Find(strings.Fields(s.Key[1]))
		if err != nil || of == c.Root() || len(rest) > 0 {
			return wrong("there is no command %q", format.Clip(s.Key[1]))
		}
		f := of.LocalFlags().Lookup(s.Key[2])
		switch {
		case f == nil:
			return wrong("tarnwold %s has no flag --%s", s.Key[1], format.Clip(s.Key[2]))
		case unset[f.Name]:
			return wrong("--%s is said each time, and can't be set", f.Name)
		}
		if of != c || f.Changed {
			continue
		}
		for _, v := range s.Values {
			if yes, ok := settings.YesNo(v); ok && f.Value.Type() == "bool" {
				v = strconv.FormatBool(yes)
			}
			if err := c.Flags().Set(f.Name, v); err != nil {
				return wrong("--%s can't be %q: %v", f.Name, format.Clip(v), err)
			}
		}
	}
	return nil
}
