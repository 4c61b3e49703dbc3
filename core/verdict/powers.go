package verdict

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// A privilege is held beside all rules ([MS-LSAD] §3.1.1.2.1). What it gives no entry of a
// file refuses, and what it lets through no share's limit takes away, as servers were
// measured (Traits.PrivilegesPass). What backup and restore give on a file takes the intent
// to be said when it is opened ([MS-FSA] §2.1.5.1.2.1), which nobody does in a day's work.

// Privilege is the name of one, as the standard has it.
type Privilege string

const (
	Backup        Privilege = "SeBackupPrivilege"
	Restore       Privilege = "SeRestorePrivilege"
	TakeOwnership Privilege = "SeTakeOwnershipPrivilege"
)

// Gives is what a privilege gives on every item, and what it lets through a share; ok is
// false for one that counts nowhere.
func (p Privilege) Gives() (file, share right.Set, ok bool) {
	switch p {
	case Backup:
		return 0, right.ReadData | right.ReadNamedAttrs | right.Execute | right.ReadAttributes | right.ReadACL | right.Synchronize, true
	case Restore:
		return 0, right.WriteData | right.AppendData | right.WriteNamedAttrs | right.WriteAttributes | right.Delete | right.WriteACL | right.WriteOwner, true
	case TakeOwnership:
		return right.WriteOwner, right.WriteOwner, true
	}
	return 0, 0, false
}

// Privileges lists those that give something.
func Privileges() []Privilege { return []Privilege{Backup, Restore, TakeOwnership} }

// Power is a privilege that an account has on a server.
type Power struct {
	Privilege Privilege
	Who       account.ID
	// File is what it gives on every item, Share what it lets through whatever the
	// share's rules say; of what its switch says, all but SwitchKeeps.
	File, Share right.Set
}

// Powers are all that count on a server. Those that are the same are one pointer.
type Powers struct {
	list []Power
	// taking are those that count where a server takes taking ownership alone into
	// account: on files, and a share lets nothing through for it.
	taking []Power
}

var powers sync.Map // by what they say: *Powers

// NewPowers makes powers of who has which privilege; nil: nobody has any that counts.
func NewPowers(held map[Privilege][]account.ID) *Powers {
	var list []Power
	for _, p := range Privileges() {
		file, share, _ := p.Gives()
		who := slices.Clone(held[p])
		slices.SortFunc(who, account.Compare)
		for _, id := range slices.Compact(who) {
			list = append(list, Power{p, id, file, share})
		}
	}
	if len(list) == 0 {
		return nil
	}
	var key strings.Builder
	for _, p := range list {
		fmt.Fprintln(&key, p.Privilege, p.Who)
	}
	one, _ := powers.LoadOrStore(key.String(), newPowers(list))
	return one.(*Powers)
}

func newPowers(list []Power) *Powers {
	p := &Powers{list: list}
	for _, x := range list {
		if x.Privilege == TakeOwnership {
			x.Share = 0
			p.taking = append(p.taking, x)
		}
	}
	return p
}

// noPowers says that nobody has any that counts, where else defaults would.
var noPowers = &Powers{}

// ToldPowers is NewPowers for a server that told who has which: nobody is an answer too.
func ToldPowers(held map[Privilege][]account.ID) *Powers {
	if p := NewPowers(held); p != nil {
		return p
	}
	return noPowers
}

// byDefault is who has privileges on a server that told of none: its administrators all of
// them, those who keep copies what they need for it.
var byDefault = func() *Powers {
	administrators, backup := account.MustID("S-1-5-32-544"), account.MustID("S-1-5-32-551")
	return NewPowers(map[Privilege][]account.ID{Backup: {administrators, backup}, Restore: {administrators, backup}, TakeOwnership: {administrators}})
}()

// Held gives who has which privilege.
func (p *Powers) Held() map[Privilege][]account.ID {
	out := map[Privilege][]account.ID{}
	for _, x := range p.List() {
		out[x.Privilege] = append(out[x.Privilege], x.Who)
	}
	return out
}

// MarshalJSON writes them as identifiers by privilege.
func (p *Powers) MarshalJSON() ([]byte, error) {
	out := map[Privilege][]string{}
	for _, x := range p.List() {
		out[x.Privilege] = append(out[x.Privilege], x.Who.String())
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON wrote; One gives the one pointer then.
func (p *Powers) UnmarshalJSON(b []byte) error {
	in := map[Privilege][]string{}
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	held := map[Privilege][]account.ID{}
	for name, ids := range in {
		if _, _, known := name.Gives(); !known {
			return fmt.Errorf("%q is not a privilege that is counted", string(name))
		}
		for _, text := range ids {
			id, err := account.ParseID(text)
			if err != nil {
				return err
			}
			held[name] = append(held[name], id)
		}
	}
	*p = *newPowers(NewPowers(held).List())
	return nil
}

// One gives the one pointer that says the same.
func (p *Powers) One() *Powers {
	if p == nil {
		return nil
	}
	return ToldPowers(p.Held())
}

// List gives them one by one.
func (p *Powers) List() []Power {
	if p == nil {
		return nil
	}
	return p.list
}

// Counting lists the powers that count by a server's traits.
func (t *Traits) Counting() []Power {
	switch held := t.Held(); {
	case t.PrivilegesPass:
		return held.List()
	case t.TakingCounts && held != nil:
		return held.taking
	}
	return nil
}

// Held is who has which privilege on a server: as it told, or where it didn't and that is
// so by default, what such servers begin with.
func (t *Traits) Held() *Powers {
	if t.Powers == nil && t.DefaultPrivileges {
		return byDefault
	}
	return t.Powers
}

// restores tells whether a token may make anybody an item's owner by a privilege.
func (t *Traits) restores(tok *account.Token) bool {
	for _, p := range t.Held().List() {
		if p.Privilege == Restore && tok.Has(p.Who) {
			return true
		}
	}
	return false
}

// given is what a token's privileges give on files, and let through a share.
func (t *Traits) given(tok *account.Token) (file, share right.Set) {
	for _, p := range t.Counting() {
		if tok.Has(p.Who) {
			file |= p.File
			share |= p.Share
		}
	}
	return file, share
}

// Takes tells whether it lets BUILTIN\Administrators take ownership of anything.
func (p Power) Takes() bool {
	return p.Privilege == TakeOwnership && p.Who == builtinAdministrators
}

// takes tells whether a token is in BUILTIN\Administrators, and these may take ownership
// of anything. Who may by an entry of their own alone was measured as not affected.
func (t *Traits) takes(tok *account.Token) bool {
	for _, p := range t.Counting() {
		if p.Takes() && tok.Has(p.Who) {
			return true
		}
	}
	return false
}

// byShare gives what a share's rules give whoever connects.
func (t *Traits) byShare(tok *account.Token, got right.Set) right.Set {
	if t.ShareWholeForTakers && got|right.WriteOwner != right.All && t.takes(tok) {
		return 0
	}
	return got
}

// byPrivilege puts the privileges of a token in the place of the reasons why it hasn't
// what they give.
func (t *Traits) byPrivilege(tok *account.Token, got, may right.Set, share bool, b *reasons) right.Set {
	for _, p := range t.Counting() {
		gives := p.File
		if share {
			gives = p.Share
		}
		gives &= may
		if gives&^got == 0 || !tok.Has(p.Who) {
			continue
		}
		for i := range b {
			if one := right.At(i); gives&^got&one != 0 {
				b[i] = Because{Source: ByPrivilege, Entry: -1, Who: p.Who, Privilege: p.Privilege}
			}
		}
		got |= gives
	}
	return got
}
