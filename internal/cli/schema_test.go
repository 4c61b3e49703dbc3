package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/invopop/jsonschema"
	validator "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/cli"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/format"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

// Every answer that any story has as JSON is held to its schema in docs/schema. With
// UPDATE_SCHEMAS=1 the stories write the schemas instead, from the types of the answers and
// what is said of their fields; then read what they wrote.
const (
	schemasAt      = "TARNWOLD_TEST_SCHEMAS"
	schemasWritten = "UPDATE_SCHEMAS"
)

// schemaName gives the name of a command's schema, as user-list.
func schemaName(path string) string {
	if path == "tarnwold" {
		return "version" // the one answer without a command
	}
	return strings.ReplaceAll(strings.TrimPrefix(path, "tarnwold "), " ", "-")
}

// shapeOf names the schema of an answer: of those that several commands have, and those that a
// command has beside its own, by their type.
func shapeOf(command string, v any) string {
	switch v.(type) {
	case run.Failure:
		return "error"
	case *changes.Outcome:
		return "change"
	}
	name := reflect.TypeOf(v).String()
	switch {
	case strings.HasSuffix(name, "changes.done"):
		return "kept"
	case name == "[]changes.wanted":
		return command + "-want"
	case name == "[]report.OfKind":
		return "findings-summary"
	case name == "[]*explain.Tried":
		return "try-from"
	case name == "report.counted":
		return "files-count"
	case name == "*live.Unfinished":
		return "unfinished"
	case name == "[]census.OwnerFiles":
		return "owned-sizes"
	case name == "*show.Presented":
		return "user-show-on"
	case name == "*confirm.PartRows":
		return "review-part"
	case name == "govern.written":
		return "review-parts"
	case name == "changes.proof":
		return "log-proof"
	}
	return command
}

// holdAnswers holds what the program answers to docs/schema, in this process.
func holdAnswers() {
	dir := os.Getenv(schemasAt)
	if dir == "" {
		return
	}
	doc.Given = func(command string, v any) {
		name := schemaName(command)
		if name == "questions" { // each as its own command has it
			return
		}
		file := filepath.Join(dir, shapeOf(name, v)+".json")
		var err error
		if os.Getenv(schemasWritten) != "" {
			err = writeSchema(file, v)
		} else {
			err = holdTo(file, v)
		}
		if err != nil {
			panic(fmt.Sprintf("docs/schema: %s: %T: %v", filepath.Base(file), v, err))
		}
	}
}

// holdTo holds an answer to a schema.
func holdTo(file string, v any) error {
	c := validator.NewCompiler()
	s, err := c.Compile(file)
	if err != nil {
		return err
	}
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	is, err := validator.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return err
	}
	return s.Validate(is)
}

// writeSchema writes the schema of a type of answers.
func writeSchema(file string, v any) error {
	r := jsonschema.Reflector{Anonymous: true, Namer: typeName, Mapper: mapped}
	here, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(filepath.Join(filepath.Dir(file), "..", "..")); err != nil { // sources are named from there
		return err
	}
	for _, at := range []string{"internal", "core"} { // the comments of fields
		if err := r.AddGoComments("tarnwold", at); err != nil {
			return err
		}
	}
	if err := os.Chdir(here); err != nil {
		return err
	}
	s := r.ReflectFromType(reflect.TypeOf(v))
	s.Title = "tarnwold: " + strings.TrimSuffix(filepath.Base(file), ".json")
	text, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	if old, err := os.ReadFile(file); err == nil && bytes.Equal(old, append(text, '\n')) {
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".schema")
	if err != nil {
		return err
	}
	if _, err = f.Write(append(text, '\n')); err == nil {
		err = f.Chmod(0o644)
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	return err
}

// typeName names a type by its package too, for several have a name.
func typeName(t reflect.Type) string {
	name := t.Name()
	if name == "" || t.PkgPath() == "" {
		return ""
	}
	if i := strings.IndexByte(name, '['); i >= 0 {
		name = name[:i] + "Of" + path.Ext(strings.TrimSuffix(name, "]"))[1:]
	}
	return path.Base(t.PkgPath()) + "." + name
}

// mapped are the types that are written otherwise than by their fields.
func mapped(t reflect.Type) *jsonschema.Schema {
	if t == reflect.TypeFor[format.Further]() {
		return &jsonschema.Schema{Type: "object", AdditionalProperties: &jsonschema.Schema{Type: "string"}, Description: "what else is known of a user, by the names whoever keeps the list chose"}
	}
	return nil
}

// TestAnswersHaveSchemas: every command that answers has its schema, and no schema is left of a
// command that went.
func TestAnswersHaveSchemas(t *testing.T) {
	dir := os.Getenv(schemasAt)
	files, err := filepath.Glob(filepath.Join(dir, "*.json"))
	require.NoError(t, err)
	have := map[string]bool{}
	for _, f := range files {
		have[strings.TrimSuffix(filepath.Base(f), ".json")] = true
		_, err := validator.NewCompiler().Compile(f)
		require.NoError(t, err, f)
	}
	alone := map[string]bool{"questions": true} // each line as its own command has it
	for _, name := range []string{"directory-add", "directory-set", "group-add", "level-add", "level-remove", "load-tree", "realm-link", "realm-unlink", "server-add", "user-add"} {
		alone[name] = true // a change that asks nobody: change.json
	}
	commands := map[string]bool{"change": true, "error": true, "kept": true, "unfinished": true}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, x := range c.Commands() {
			walk(x)
		}
		name := schemaName(c.CommandPath())
		commands[name] = commands[name] || c.Runnable()
		if c.Runnable() && !c.HasSubCommands() && c.Name() != "help" && c.Parent() != nil && c.Parent().Name() != "completion" {
			changes := c.Flags().Lookup("dry-run") != nil || c.Flags().Lookup("yes") != nil || alone[name]
			require.True(t, changes || have[name], "%s has no schema", name)
			require.False(t, alone[name] && have[name], "%s has one", name)
		}
	}
	walk(cli.Commands(&run.App{}))
	for name := range have { // a command's own, or what it has with a flag
		of := name
		for !commands[of] {
			i := strings.LastIndexByte(of, '-')
			require.Positive(t, i, "%s.json is of no command", name)
			of = of[:i]
		}
	}
}

// TestStreamsHaveSchemas: answers that are written as they come are held to theirs too.
func TestStreamsHaveSchemas(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TARNWOLD_ESTATE", filepath.Join(dir, "pl", "tarnwold.estate"))
	var out bytes.Buffer
	run := func(args ...string) []byte {
		out.Reset()
		require.Zero(t, cli.Main(args, strings.NewReader(""), &out, &out), out.String())
		return out.Bytes()
	}
	run("demo", filepath.Join(dir, "pl"))
	hold := func(name string, as any, args ...string) {
		file := filepath.Join(os.Getenv(schemasAt), name+".json")
		if os.Getenv(schemasWritten) != "" {
			require.NoError(t, writeSchema(file, as))
		}
		require.NoError(t, holdTo(file, json.RawMessage(run(append(args, "--format", "json")...))))
	}
	hold("owned", struct {
		Account string       `json:"account"`
		Items   []show.Owned `json:"items"`
	}{}, "owned", "silas")
	files := struct {
		User  string        `json:"user"`
		Shut  string        `json:"shut,omitempty"` // why nobody can sign on as them
		Files []census.File `json:"files"`
	}{}
	hold("files", files, "files", "ines")
	hold("files", files, "files", "silas")
}
