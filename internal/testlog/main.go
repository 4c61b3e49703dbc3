// Testlog sums a test run up: it reads what go test -json says, prints what failed
// with all it said, the time of each package, and what was skipped and why.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

func main() {
	if failed := sum(os.Stdin, os.Stdout); failed > 0 {
		os.Exit(1)
	}
}

// sum prints a run as it goes on, and gives how many packages failed, or weren't
// heard to the end.
func sum(in io.Reader, out io.Writer) (failed int) {
	type test struct{ pkg, name string }
	said := map[test][]string{} // of tests that haven't ended
	skipped := map[string][]string{}
	open, ended := map[string]bool{}, 0
	lines := bufio.NewReader(in)
	for {
		line, err := lines.ReadString('\n')
		if line == "" && err != nil {
			break
		}
		var e event
		if json.Unmarshal([]byte(line), &e) != nil || e.Action == "" {
			fmt.Fprint(out, line) // what isn't of a test: the compiler
			continue
		}
		pkg := strings.TrimPrefix(e.Package, "tarnwold/")
		of := test{pkg, e.Test}
		switch e.Action {
		case "start":
			open[pkg] = true
		case "build-output":
			fmt.Fprint(out, e.Output)
			continue
		case "output":
			said[of] = append(said[of], e.Output)
			continue
		case "build-fail":
			failed++
		case "fail":
			if e.Test != "" {
				fmt.Fprint(out, strings.Join(said[of], ""))
				break
			}
			failed++
			delete(open, pkg)
			fmt.Fprint(out, strings.Join(said[of], ""))
			for t, lines := range said { // those that were under way when it ended
				if t.pkg == pkg && t.name != "" {
					fmt.Fprintf(out, "%s was under way:\n%s", t.name, strings.Join(lines, ""))
				}
			}
			fmt.Fprintf(out, "FAILED  %7.1f s  %s\n", e.Elapsed, pkg)
		case "pass", "skip":
			if e.Test == "" {
				ended++
				delete(open, pkg)
				if e.Action == "pass" {
					fmt.Fprintf(out, "ok      %7.1f s  %s\n", e.Elapsed, pkg)
				}
				break
			}
			if e.Action == "skip" {
				why := reason(said[of])
				if strings.HasPrefix(why, "*** RUN BY ") { // what that one says of it counts
					break
				}
				skipped[why] = append(skipped[why], pkg+" "+e.Test)
			}
		default:
			continue
		}
		delete(said, of)
	}
	for pkg := range open {
		failed++
		fmt.Fprintf(out, "FAILED  %s: it ended without a word\n", pkg)
	}
	if ended+failed == 0 {
		failed++
		fmt.Fprintln(out, "FAILED  no test was run")
	}
	var whys []string
	for why := range skipped {
		whys = append(whys, why)
	}
	slices.Sort(whys)
	for _, why := range whys {
		fmt.Fprintf(out, "%s\n", why)
		for _, t := range skipped[why] {
			fmt.Fprintf(out, "    %s\n", t)
		}
	}
	return failed
}

// reason is what a test said when it was passed over.
func reason(lines []string) string {
	for _, l := range lines {
		if i := strings.Index(l, "***"); i >= 0 {
			return strings.TrimSpace(l[i:])
		}
	}
	for _, l := range lines {
		if _, why, ok := strings.Cut(l, ".go:"); ok {
			if _, why, ok = strings.Cut(why, ": "); ok {
				return "*** SKIPPED: " + strings.TrimSpace(why) + " ***"
			}
		}
	}
	return "*** SKIPPED without a reason ***"
}
