package show

import (
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// PosixShown is what stands on an item of a POSIX tree.
type PosixShown struct {
	Mode    string   `json:"mode"`    // octal, four digits
	Letters string   `json:"letters"` // rwxr-s---
	Access  []string `json:"access"`  // long text form (§23.3), an entry a line
	Default []string `json:"default,omitempty"`
	Skipped bool     `json:"skipped,omitempty"` // the mask is empty: a kernel passes over the list
	Sticky  bool     `json:"sticky,omitempty"`
	SetGID  bool     `json:"set-gid,omitempty"`
	Marks   []string `json:"marks,omitempty"` // beside it all: immutable and the like
	Text    string   `json:"text"`            // in one line: letters, and lists in the short form
	// Kept are the entries of a descriptor that an SMB server keeps beside, and
	// KeptOwner its owner; KeptRules is absent, empty or present.
	Kept      []string `json:"kept-beside,omitempty"`
	KeptOwner string   `json:"kept-beside-owner,omitempty"`
	KeptRules string   `json:"kept-beside-rules,omitempty"`
}

// showPosix lists what stands on an item of a POSIX tree.
func showPosix(k *ask.Asker, x *posix.Rules) *PosixShown {
	octal, letters := estate.Mode(x.Mode())
	out := &PosixShown{Mode: octal, Letters: letters, Access: k.T.PosixLines(x.Access, false), Default: k.T.PosixLines(x.Default, true), Skipped: x.Skips(),
		Sticky: x.Folder && x.Special&posix.Sticky != 0, SetGID: x.Folder && x.Special&posix.SetGID != 0, Text: k.T.PosixText(x), Marks: x.Marks.Names()}
	if x.Kept != nil {
		out.KeptOwner, out.KeptRules = k.T.Name(x.Kept.Owner), ask.RulesAre(&x.Kept.Rules)
		for _, e := range x.Kept.Rules.Entries {
			out.Kept = append(out.Kept, k.Lang.Write(e, x.Folder))
		}
	}
	return out
}

// whyPOSIX tells how an item of a POSIX tree differs from its folder: another
// owner or group, and a list that isn't what the folder's stands for.
func whyPOSIX(k *ask.Asker, x *posix.Rules, above rule.Any) (why []Why) {
	up, ok := above.(*posix.Rules)
	if !ok {
		return []Why{{By: "entry", Entry: k.T.PosixText(x)}}
	}
	if !x.Like(up) {
		why = append(why, Why{By: "entry", Entry: k.T.PosixText(x)})
	}
	if x.Owner != up.Owner {
		why = append(why, Why{By: "owner", Owner: k.T.PosixName(x.Owner)})
	}
	if x.Group != up.Group {
		why = append(why, Why{By: "group", Owner: k.T.PosixName(x.Group)})
	}
	return why
}

// Mode is the bits and lists of one item.
type Mode struct {
	Where string      `json:"where"`
	Kind  string      `json:"kind"`
	Owner ask.Account `json:"owner"`
	Group ask.Account `json:"group"`
	POSIX *PosixShown `json:"posix"`
}

// Modes tells the bits and lists of items of POSIX trees.
func Modes(k *ask.Asker, items []estate.Target) ([]Mode, error) {
	out := []Mode{}
	for _, x := range items {
		r, ok := k.T.Of(x.Strand).(*posix.Rules)
		if !ok {
			return nil, ask.Unfit("see: tarnwold show", "%s is not an item of a POSIX tree: it has entries, and no mode", k.T.Where(x.Item))
		}
		d := k.AsEntries(r)
		out = append(out, Mode{k.T.Where(x.Item), ask.Kind(x.Folder), k.Account(d.Owner), k.Account(d.Group), showPosix(k, r)})
	}
	return out, k.T.Err()
}
