package plan

import (
	"slices"
	"strings"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Drift is what is otherwise on a real server than in the estate.
type Drift struct {
	Server string      `json:"server"`
	Lines  []DriftLine `json:"differences"`
	More   int         `json:"more"` // beyond the limit
	Alike  int         `json:"items-alike"`

	server estate.Server
	limit  int
	shares map[string]bool
	// of the tree at hand
	at    estate.Place
	known map[string]estate.Target // by path below it
	pass  []string                 // places whose rules couldn't be read
}

// DriftLine is one difference.
type DriftLine struct {
	Where string `json:"where"`
	// What: came, went, is-a-folder, is-a-file, rules; share-came, share-went,
	// share-folder, share-rules, not-scanned.
	What  string `json:"what"`
	Lines []Line `json:"lines,omitempty"` // of rules: what the server has more and less
}

// BeginDrift begins comparing a server; limit lines, 0 for all.
func (d *Desk) BeginDrift(s estate.Server, limit int) *Drift {
	return &Drift{Server: s.Name, Lines: []DriftLine{}, server: s, limit: limit, shares: map[string]bool{}}
}

func (f *Drift) note(l DriftLine) {
	if f.limit > 0 && len(f.Lines) >= f.limit {
		f.More++
		return
	}
	f.Lines = append(f.Lines, l)
}

// Share compares one share.
func (f *Drift) Share(d *Desk, name, folder string, rules *rule.Descriptor) error {
	where := place.Address{Server: f.server.Name, Share: name}.String()
	f.shares[estate.Key(name)] = true
	sh, err := d.t.Share(f.server, name)
	switch {
	case err != nil:
		f.note(DriftLine{Where: where, What: "share-came"})
	case sh.Folder != folder:
		f.note(DriftLine{Where: where, What: "share-folder", Lines: []Line{{Sign: "comes", What: "folder", Text: folder}, {Sign: "goes", What: "folder", Text: sh.Folder}}})
	case rules != nil && !sh.Descriptor.Equal(rules):
		f.note(DriftLine{Where: where, What: "share-rules", Lines: d.Turned(sh.Descriptor, rules, false, nil, nil)})
	}
	return d.t.Err()
}

// SharesGone tells the estate's shares that the server doesn't have.
func (f *Drift) SharesGone(d *Desk) {
	for _, sh := range d.t.Shares(f.server) {
		if !f.shares[estate.Key(sh.Name)] {
			f.note(DriftLine{Where: sh.Address(), What: "share-went"})
		}
	}
}

// Tree begins comparing a folder and what is below it; known is false where
// the estate has nothing there.
func (f *Drift) Tree(d *Desk, folder string) (known bool, err error) {
	f.at, err = d.t.At(f.server, folder)
	if err != nil {
		f.note(DriftLine{Where: place.Address{Server: f.server.Name, Path: folder}.String(), What: "not-scanned"})
		return false, d.t.Err()
	}
	f.known, f.pass = map[string]estate.Target{}, nil
	for _, item := range d.t.Subtree(f.at.Item, 1<<31-1) {
		p := d.t.Place(item)
		rest, _ := place.Cut(p.Path, f.at.Path)
		f.known[rest] = p.Target()
	}
	return true, d.t.Err()
}

// Item compares one item of the tree.
func (f *Drift) Item(d *Desk, path string, folder bool, rules *rule.Descriptor) error {
	where := place.Address{Server: f.server.Name, Path: strings.TrimSuffix(place.Join(f.at.Path, path), "/")}.String()
	x, ok := f.known[path]
	delete(f.known, path)
	switch {
	case !ok:
		f.note(DriftLine{Where: where, What: "came"})
	case x.Folder != folder:
		f.note(DriftLine{Where: where, What: map[bool]string{true: "is-a-folder", false: "is-a-file"}[folder]})
	default:
		// The estate may hold audit entries, which a scan doesn't read.
		now := d.t.Of(x.Strand).Clone()
		now.Audit = rules.Audit
		now.Control = now.Control&^auditBits | rules.Control&auditBits
		if now.Equal(rules) {
			f.Alike++
			return d.t.Err()
		}
		lines := d.Turned(now, rules, folder, nil, nil)
		if len(lines) == 0 {
			lines = []Line{{Sign: "changes", What: "order"}}
		}
		f.note(DriftLine{Where: where, What: "rules", Lines: lines})
	}
	return d.t.Err()
}

const auditBits = rule.AuditPresent | rule.AuditSealed

// Pass says that what is at and below a path couldn't be read.
func (f *Drift) Pass(path string) { f.pass = append(f.pass, path) }

// Gone tells what the estate has in the tree and the server hasn't.
func (f *Drift) Gone(d *Desk) {
	var paths []string
	for path := range f.known {
		if !slices.ContainsFunc(f.pass, func(p string) bool { return p == "" || path == p || strings.HasPrefix(path, p+"/") }) {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	for _, path := range paths {
		f.note(DriftLine{Where: place.Address{Server: f.server.Name, Path: place.Join(f.at.Path, path)}.String(), What: "went"})
	}
}
