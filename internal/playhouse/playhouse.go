// Package playhouse makes the files of the Quillfeather Playhouse, the
// made-up theatre company that the demo, the guide and many tests work on:
// accounts, members, shares and the trees of three servers, as CSV.
//
// The trees are written down as a person would plan them, and every
// descriptor follows from that by the rules of core.
package playhouse

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
)

// Files names what Write makes.
var Files = []string{"accounts.csv", "members.csv", "shares.csv", "programme-shares.csv", "stagedoor.csv", "flyloft.csv", "propstore.csv", "questions.csv", "acts.csv", "nightly.txt", "house.expect", "wardrobe.policy", "duties.except", "tries.csv", "spring.csv"}

var domain = account.NewID(5, 21, 1740297317, 2041512876, 3301284410)

var users = []string{"warden", "ines", "bram", "odile", "tomas", "wren", "petra", "yusuf", "lark", "maud", "silas", "greta", "nils", "orla"}

var groups = []struct{ name, purpose, members string }{
	{"wardrobe", "role", "ines bram"},
	{"lighting", "role", "odile tomas"},
	{"stage", "role", "ines tomas nils"},
	{"foyer", "role", "wren petra"},
	{"casting", "role", "yusuf orla"},
	{"volunteers", "role", "petra lark"},
	{"board", "role", "greta odile"},
	{"design-guests", "role", "maud:2027-03-31"},
	{"company", "role", "wardrobe lighting stage foyer casting board"},
	{"acc-wardrobe-edit", "access", "wardrobe design-guests"},
	{"acc-lighting-edit", "access", "lighting"},
	{"acc-scripts-read", "access", "company volunteers"},
	{"acc-boxoffice-edit", "access", "foyer"},
	{"acc-casting-edit", "access", "casting"},
	{"acc-programme-edit", "access", "foyer stage"},
	{"acc-archive-read", "access", "board wren"},
	{"all-company-news", "mail", "company volunteers"},
}

type item struct {
	path    string // a folder ends in /
	owner   string
	sealed  bool
	entries string // separated by ;
}

var stagedoor = []item{
	{"/", "warden", true, "allow board read tree; allow company pass here; allow warden full tree; allow creator@ edit files"},
	{"Wardrobe/", "warden", false, "allow acc-wardrobe-edit edit tree"},
	{"Wardrobe/Fittings/", "warden", false, ""},
	{"Wardrobe/Fittings/measurements.ods", "ines", false, ""},
	{"Wardrobe/Fittings/hire list.csv", "bram", false, ""},
	{"Wardrobe/Sketches/", "warden", false, ""},
	{"Wardrobe/Sketches/act one, ball gown.png", "maud", false, ""},
	{"Wardrobe/Sketches/act two, cloaks.png", "maud", false, "allow stage read"},
	{"Lighting/", "warden", false, "allow acc-lighting-edit edit tree"},
	{"Lighting/cue list.txt", "odile", false, ""},
	{"Lighting/Plots/", "warden", false, "allow stage read tree"},
	{"Lighting/Plots/winter tour.svg", "tomas", false, ""},
	{"Scripts/", "warden", false, "allow acc-scripts-read read tree"},
	{"Scripts/The Lantern Thief.odt", "silas", false, ""},
	{"Scripts/prompt book.odt", "nils", false, "allow nils revise"},
	{"Box Office/", "warden", false, "allow acc-boxoffice-edit edit tree; allow volunteers read tree"},
	{"Box Office/rota.ods", "wren", false, ""},
	{"Box Office/Ledgers/", "warden", false, "deny volunteers full tree"},
	{"Box Office/Ledgers/2026-10.ods", "petra", false, ""},
	{"Box Office/Ledgers/2026-11.ods", "wren", false, ""},
	{"Casting/", "warden", true, "allow warden full tree; allow acc-casting-edit edit tree"},
	{"Casting/Contracts/", "warden", false, "allow greta read tree"},
	{"Casting/Contracts/understudies.odt", "yusuf", false, ""},
	{"Casting/auditions.ods", "orla", false, ""},
	{"Timesheets/", "warden", false, "allow company drop here; allow creator@ revise files"},
	{"Timesheets/bram week 47.ods", "bram", false, ""},
	{"Archive/", "warden", false, "allow acc-archive-read read tree"},
	{"Archive/Tour 2024/", "silas", false, ""},
	{"Archive/Tour 2024/accounts.ods", "silas", false, ""},
	{"Archive/Tour 2024/photos.zip", "silas", false, ""},
	{"Board Papers/", "warden", true, "allow warden full tree; allow board edit tree"},
	{"Board Papers/minutes 2026-11.odt", "greta", false, ""},
}

var flyloft = []item{
	{"/", "warden", true, "allow warden full tree; allow acc-programme-edit revise tree; allow authenticated@ read tree"},
	{"Season 2027/", "warden", false, ""},
	{"Season 2027/brochure.odt", "petra", false, ""},
	{"Season 2027/Drafts/", "warden", true, "allow warden full tree; allow acc-programme-edit edit tree"},
	{"Season 2027/Drafts/cast list.odt", "orla", false, ""},
}

// propstore is a POSIX tree: path, kind, owner, group, mode, access list,
// default list.
var propstore = [][]string{
	{"path", "kind", "owner", "group", "mode", "access_acl", "default_acl"},
	{"", "folder", "warden", "stage", "2775", "", ""},
	{"Workshop", "folder", "tomas", "stage", "2770", "user::rwx,user:bram:rwx,group::rwx,group:lighting:r-x,mask::rwx,other::---", "user::rwx,group::rwx,group:lighting:r-x,mask::rwx,other::---"},
	{"Workshop/wolf head.txt", "file", "nils", "stage", "0660", "user::rw-,group::rw-,group:lighting:r--,mask::rw-,other::---", ""},
	{"Workshop/cut list.ods", "file", "tomas", "stage", "0640", "user::rw-,user:bram:rw-,group::r--,mask::r--,other::---", ""},
	{"Workshop/fit.sh", "file", "tomas", "stage", "0750", "", ""},
	{"Loans", "folder", "warden", "company", "1777", "", ""},
	{"Loans/tiara.txt", "file", "ines", "wardrobe", "0664", "", ""},
	{"Loans/lantern.txt", "file", "silas", "stage", "0644", "", ""},
	{"Armoury", "folder", "warden", "stage", "0700", "", ""},
	{"Armoury/swords.ods", "file", "nils", "stage", "0664", "", ""},
}

// id gives the identifier of an account of the playhouse.
func id(name string) (account.ID, error) {
	for i, u := range users {
		if u == name {
			return domain.Child(uint32(1101 + i)), nil
		}
	}
	for i, g := range groups {
		if g.name == name {
			return domain.Child(uint32(1201 + i)), nil
		}
	}
	if s, ok := account.ParseSpecial(name); ok {
		return s, nil
	}
	return account.ID{}, fmt.Errorf("nobody in the playhouse is called %q", name)
}

// Write makes the files in a folder.
func Write(dir string) error {
	trees := map[string][]item{"stagedoor.csv": stagedoor, "flyloft.csv": flyloft}
	for _, name := range Files {
		var rows [][]string
		var err error
		switch name {
		case "accounts.csv":
			rows = accounts()
		case "members.csv":
			rows = members()
		case "shares.csv":
			rows, err = shares([][4]string{
				{"productions", "/srv/playhouse", "no", "allow everyone@ full"},
				{"vault", "/srv/playhouse", "no", "deny volunteers full; allow board full; allow authenticated@ read"},
				{"readingroom", "/srv/playhouse/Scripts", "yes", "allow everyone@ full"},
			})
		case "programme-shares.csv":
			rows, err = shares([][4]string{{"programme", "/data/programme", "no", "allow acc-programme-edit edit; allow everyone@ read"}})
		case "propstore.csv":
			rows = propstore
		case "questions.csv":
			rows = [][]string{{"user", "where"},
				{"bram", "//stagedoor/productions/Wardrobe/Fittings"}, {"lark", "//stagedoor/productions/Box Office/Ledgers"},
				{"greta", "//stagedoor/vault/Casting/Contracts/understudies.odt"}, {"maud", "//stagedoor/productions/Wardrobe/Sketches"}}
		case "acts.csv":
			rows = [][]string{{"user", "act", "where", "to"},
				{"ines", "save", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods", ""},
				{"tomas", "create", "//stagedoor/productions/Lighting/cues.txt", ""},
				{"lark", "read", "//stagedoor/productions/Box Office/Ledgers/2026-11.ods", ""},
				{"odile", "rename", "//stagedoor/productions/Archive/Tour 2024", "Tour of 2024"},
				{"bram", "delete", "//stagedoor/vault/Wardrobe/Fittings", ""}}
		case "spring.csv":
			rows = [][]string{{"who", "level", "where", "until", "why"},
				{"stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "2099-05-31", "the spring tour"},
				{"lighting", "list", "//stagedoor/productions/Timesheets", "", "the new rota"}}
		case "nightly.txt":
			err = os.WriteFile(filepath.Join(dir, name), []byte(nightly), 0o666)
		case "house.expect":
			err = os.WriteFile(filepath.Join(dir, name), []byte(expected), 0o666)
		case "wardrobe.policy":
			err = os.WriteFile(filepath.Join(dir, name), []byte(season), 0o666)
		case "tries.csv":
			rows = [][]string{{"at", "user", "act", "where", "result"},
				{"2026-11-20T08:01:12Z", "lark", "read", "//stagedoor/productions/Box Office/Ledgers/2026-11.ods", "refused"},
				{"2026-11-20T08:01:40Z", "lark", "read", "//stagedoor/productions/Box Office/Ledgers/2026-11.ods", "refused"},
				{"2026-11-21T17:22:03Z", "lark", "read", "//stagedoor/productions/Box Office/Ledgers/2026-11.ods", "refused"},
				{"2026-11-21T18:05:59Z", "petra", "list", "//stagedoor/productions/Archive", "refused"},
				{"2026-11-22T09:12:00Z", "bram", "save", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods", "granted"},
				{"2026-11-22T09:44:31Z", "ines", "read", "//stagedoor/productions/Wardrobe/Fittings/hire list.csv", "granted"},
				{"2026-11-23T11:30:05Z", "odile", "delete", "//stagedoor/productions/Scripts/The Lantern Thief.odt", "refused"}}
		case "duties.except":
			err = os.WriteFile(filepath.Join(dir, name), []byte(duties), 0o666)
		default:
			rows, err = tree(trees[name])
		}
		if err == nil && rows != nil {
			err = write(filepath.Join(dir, name), rows)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// nightly is the questions the playhouse has answered every night.
const nightly = `# Who can see the ledgers, and who can change the rules of Casting?
who "//stagedoor/productions/Box Office/Ledgers"
who //stagedoor/productions/Casting --can full
# What is left of silas, who has left?
uses silas
reach silas
# The understudy's first day
explain petra //stagedoor/productions/Wardrobe --if "petra joins wardrobe"
`

// expected is what the playhouse relies on; the last two have not been so for
// a while.
const expected = `# What the house relies on, checked every night
at //stagedoor/productions
ines, wardrobe can edit Wardrobe/Fittings
bram can save "Wardrobe/Fittings/hire list.csv"
lark cannot read "Box Office/Ledgers"
only board, warden can read "Board Papers" and below
nobody but warden can full Timesheets and below
wardrobe cannot delete Wardrobe
nobody but warden can change-rules Casting and below
`

// season is a policy of the playhouse.
const season = `policy wardrobe-season
because the guest designers need the workshop until the tour ends
at Wardrobe
  sealed keep
  allow acc-wardrobe-edit edit tree
  allow design-guests add below until 2027-03-31
  only deny volunteers full tree
at Wardrobe/Sketches
  owner ines
expect
  maud can add Wardrobe/Sketches
  nobody but ines, bram, maud, warden can edit Wardrobe/Sketches
`

// duties is what the playhouse means to be in one hand.
const duties = `# The warden is the one administrator
except administrator warden because somebody has to
`

func write(path string, rows [][]string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := csv.NewWriter(f)
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	return f.Close()
}

func accounts() [][]string {
	rows := [][]string{{"kind", "name", "sid", "id", "purpose"}}
	for i, u := range users {
		rows = append(rows, []string{"user", u, domain.Child(uint32(1101 + i)).String(), fmt.Sprint(6001 + i), ""})
	}
	for i, g := range groups {
		rows = append(rows, []string{"group", g.name, domain.Child(uint32(1201 + i)).String(), fmt.Sprint(7001 + i), g.purpose})
	}
	return rows
}

func members() [][]string {
	rows := [][]string{{"group", "member", "until"}}
	for _, g := range groups {
		for _, m := range strings.Fields(g.members) {
			name, until, _ := strings.Cut(m, ":")
			rows = append(rows, []string{g.name, name, until})
		}
	}
	return rows
}

var language = rule.Language{Levels: right.Builtin(), Who: id}

// give adds entries written down, separated by ;, to a descriptor.
func give(d *rule.Descriptor, entries string, folder bool) (*rule.Descriptor, error) {
	for _, e := range strings.Split(entries, ";") {
		if strings.TrimSpace(e) == "" {
			continue
		}
		l, err := language.ParseLine(e)
		if err != nil {
			return nil, err
		}
		es, err := l.Entries(folder)
		if err != nil {
			return nil, err
		}
		if d, _, err = d.Give(es, rule.Giving{}); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func shares(list [][4]string) ([][]string, error) {
	rows := [][]string{{"share", "folder", "read_only", "sddl"}}
	for _, s := range list {
		d := &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
		for _, e := range strings.Split(s[3], ";") {
			var err error
			if d, err = give(d, e+" here", true); err != nil {
				return nil, err
			}
		}
		text, err := sddl.Format(d)
		if err != nil {
			return nil, err
		}
		rows = append(rows, []string{s[0], s[1], s[2], text})
	}
	return rows, nil
}

// tree works out every descriptor from its folder's and the item's own plan.
func tree(items []item) ([][]string, error) {
	rows := [][]string{{"path", "kind", "sddl"}}
	known := map[string]*rule.Descriptor{}
	for _, it := range items {
		path, folder := strings.CutSuffix(it.path, "/")
		owner, err := id(it.owner)
		if err != nil {
			return nil, err
		}
		parent := &rule.Descriptor{}
		if path != "" {
			parent = known[strings.TrimSuffix(path[:strings.LastIndexByte("/"+path, '/')], "/")]
		}
		d := rule.NewChild(parent, folder, owner, domain.Child(account.DomainUsersRID), nil)
		if it.sealed {
			d = d.Seal(false)
		}
		if d, err = give(d, it.entries, folder); err != nil {
			return nil, fmt.Errorf("%s: %w", it.path, err)
		}
		known[path] = d
		text, err := sddl.Format(d)
		if err != nil {
			return nil, err
		}
		kind := "file"
		if folder {
			kind = "folder"
		}
		rows = append(rows, []string{path, kind, text})
	}
	return rows, nil
}
