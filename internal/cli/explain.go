package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/sheet"
	"tarnwold/internal/report"
)

func (a *app) explainCommand() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "explain WHO WHERE",
		Short: "Explain what a user may do with an item, and because of what",
		Long: `Explain what a user may do with an item: the level, and for each right the
entry that decides, the folder it is set on and the groups on the way from the
user to the entry's account.

//SERVER/SHARE/… asks about that one way in; SERVER:/… asks about every share
over the item and about the server itself. --from answers many questions at
once: a CSV file with the columns user and where. The answer "granted" is a
hexadecimal mask of the rights, synchronize left out.

Exit code 1 says that nothing is granted.`,
		Example: `  tarnwold explain ines //stagedoor/productions/Wardrobe
  tarnwold explain petra stagedoor:/srv/playhouse/Foyer
  tarnwold explain --from questions.csv --format csv`,
		Args: func(c *cobra.Command, args []string) error {
			if from != "" {
				return cobra.NoArgs(c, args)
			}
			return cobra.ExactArgs(2)(c, args)
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completeAccounts(account.User)(c, args, begun)
			}
			return a.completePlaces(c, args, begun)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if from != "" {
				return a.explainMany(c, from)
			}
			return a.view(c.Context(), func(t *estate.Tx) error {
				answers, err := newAsker(t).ask(args[0], args[1])
				if err != nil {
					return err
				}
				return a.printAnswers(answers)
			})
		},
	}
	c.Flags().StringVar(&from, "from", "", "a CSV `file` of questions with the columns user and where")
	return c
}

func (a *app) printAnswers(answers []*report.Answer) error {
	p := a.printer()
	granted := false
	for _, x := range answers {
		granted = granted || x.Level != "nothing"
	}
	var err error
	switch {
	case p.Format == report.CSV || p.Format == report.JSON && len(answers) > 1:
		err = p.Answers(answers)
	default:
		for i, x := range answers {
			if i > 0 {
				p.Line("")
			}
			if err = p.Verdict(x); err != nil {
				break
			}
		}
	}
	if err == nil && !granted {
		err = errNo
	}
	return err
}

func (a *app) explainMany(c *cobra.Command, file string) error {
	questions, err := readFile(file, func(r io.Reader, f string) ([]sheet.Asking, error) {
		s, err := sheet.Open(r, f, sheet.Askings)
		if err != nil {
			return nil, err
		}
		return s.ReadAskings()
	})
	if err != nil {
		return err
	}
	return a.view(c.Context(), func(t *estate.Tx) error {
		bar := a.progress(len(questions), "asking")
		defer bar.end()
		k := newAsker(t)
		k.brief = a.format != report.JSON
		var all []*report.Answer
		for i, q := range questions {
			answers, err := k.ask(q.User, q.Where)
			if err != nil {
				return fmt.Errorf("%s: line %d: %w", file, q.Line, err)
			}
			all = append(all, answers...)
			if i%64 == 0 {
				bar.set(i)
				if err := c.Context().Err(); err != nil {
					return err
				}
			}
		}
		bar.end()
		return a.printer().Answers(all)
	})
}

// asker answers questions on one estate and remembers what it looked up.
type asker struct {
	t      *estate.Tx
	lang   rule.Language
	places map[string]estate.Place
	tokens map[tokenKey]*account.Token
	admins map[string][]account.ID
	brief  bool // leave the reasons out
}

type tokenKey struct {
	user   account.ID
	server string
	local  bool
}

func newAsker(t *estate.Tx) *asker {
	return &asker{t: t, lang: language(t), places: map[string]estate.Place{}, tokens: map[tokenKey]*account.Token{},
		admins: map[string][]account.ID{}}
}

// The special accounts that fit a route.
var (
	throughShare = []account.ID{account.Everyone, account.Authenticated, account.Network}
	atServer     = []account.ID{account.Everyone, account.Authenticated, account.Interactive}
)

func (k *asker) token(user account.ID, s estate.Server, local bool) *account.Token {
	key := tokenKey{user, s.Name, local}
	tok := k.tokens[key]
	if tok == nil {
		special := throughShare
		if local {
			special = atServer
		}
		tok = account.NewToken(k.t, user, s.Traits.Traits, special...)
		k.tokens[key] = tok
	}
	return tok
}

// ask answers one question, by one answer a route.
func (k *asker) ask(who, where string) ([]*report.Answer, error) {
	user, err := k.t.Named(who, 0)
	if err != nil {
		return nil, err
	}
	place, ok := k.places[where]
	if !ok {
		if place, err = k.t.Find(where); err != nil {
			return nil, err
		}
		k.places[where] = place
	}
	if place.Share != nil {
		return []*report.Answer{k.answer(user, place, place.Share)}, k.t.Err()
	}
	var out []*report.Answer
	for _, sh := range k.t.Through(place) {
		through := place
		through.Share = &sh
		out = append(out, k.answer(user, through, &sh))
	}
	return append(out, k.answer(user, place, nil)), k.t.Err()
}

// question puts together what core is asked.
func (k *asker) question(user account.ID, place estate.Place, sh *estate.Share) *verdict.Question {
	t := k.t
	q := &verdict.Question{Item: t.Of(place.Strand), Traits: &place.Server.Traits, Token: k.token(user, place.Server, sh == nil)}
	top := len(place.Folders) - 1
	if sh != nil {
		q.Share = &verdict.Share{Rules: sh.Descriptor, ReadOnly: sh.ReadOnly}
		for top > 0 && len(place.Folders[top]) < len(sh.Folder) {
			top--
		}
	}
	if top > 0 {
		q.Parent = t.Of(place.Trail[1])
	}
	if q.Traits.AsksFoldersAbove {
		q.Above = t.Above(place)
	}
	admins, ok := k.admins[place.Server.Name]
	if !ok {
		admins = t.Administrators(place.Server)
		k.admins[place.Server.Name] = admins
	}
	for _, id := range admins {
		q.Administrator = q.Administrator || q.Token.Has(id)
	}
	return q
}

func (k *asker) answer(user account.Account, place estate.Place, sh *estate.Share) *report.Answer {
	q := k.question(user.ID, place, sh)
	granted := verdict.Granted(q)
	t, levels := k.t, k.lang.Levels
	a := &report.Answer{
		User: t.Name(user.ID), Where: place.Via(), Item: place.String(), Kind: kindOf(place.Folder), Owner: t.Name(q.Item.Owner),
		Route: "local", Granted: fmt.Sprintf("0x%x", uint32(granted&right.Access)), Level: levels.Show(granted, place.Folder),
	}
	if sh != nil {
		a.Route = sh.Address(place.Server)
	}
	if k.brief {
		return a
	}
	v := verdict.Decide(q)
	above := t.Above(place)
	var file, share right.Set
	for _, f := range v.Findings {
		if f.FileOK {
			file |= f.Right
		}
		if f.ShareOK {
			share |= f.Right
		}
		if f.Right == right.Synchronize {
			continue
		}
		r := report.Right{Right: f.Right.Names(place.Folder)[0], Granted: f.Granted, File: k.reason(q, place, above, f.File, f.FileOK)}
		if sh != nil {
			s := k.shareReason(q, place, sh, f.Share, f.ShareOK)
			r.Share = &s
		}
		a.Rights = append(a.Rights, r)
	}
	a.ByFile = levels.Show(file, place.Folder)
	if sh != nil {
		a.ByShare = levels.Show(share, place.Folder)
	}
	if user.Kind == account.Group {
		a.Notes = append(a.Notes, "asked for someone who is in this group and in no other")
	}
	switch {
	case q.Item.Rules.Absent:
		a.Notes = append(a.Notes, "its rules are absent, which opens it to everyone")
	case len(q.Item.Rules.Entries) == 0:
		a.Notes = append(a.Notes, "its rules are empty, which closes it to everyone")
	}
	return a
}

func (k *asker) reason(q *verdict.Question, place estate.Place, above []*rule.Descriptor, b verdict.Because, granted bool) report.Reason {
	r := report.Reason{Granted: granted}
	t := k.t
	switch b.Source {
	case verdict.ByEntry:
		e := q.Item.Rules.Entries[b.Entry]
		r.Because = k.lang.Write(e, place.Folder)
		r.SetOn, _ = origin(place, above, e)
		if r.SetOn == "here" {
			r.SetOn = place.String()
		}
		r.Chain = chainNames(t, q.Token.Chain(b.Who))
	case verdict.ByParent:
		parent := t.Place(0)
		parent.Server, parent.Folder, parent.Path = place.Server, true, place.Folders[1]
		parent.Folders, parent.Trail = place.Folders[1:], place.Trail[1:]
		if b.Entry < 0 {
			r.Because = "delete-child on the folder above, whose rules are absent"
			r.SetOn = parent.String()
			break
		}
		e := q.Parent.Rules.Entries[b.Entry]
		r.Because = "delete-child on the folder above: " + k.lang.Write(e, true)
		r.SetOn, _ = origin(parent, above[1:], e)
		if r.SetOn == "here" {
			r.SetOn = parent.String()
		}
		r.Chain = chainNames(t, q.Token.Chain(b.Who))
	case verdict.ByOwner:
		r.Because = "owns it, which brings read-acl and write-acl"
		r.Chain = chainNames(t, q.Token.Chain(b.Who))
	case verdict.ByAbsence:
		r.Because = "its rules are absent, which opens it to everyone"
	case verdict.ByNaming:
		r.Because = "the server shows attributes to whoever can name an item"
	case verdict.ByAdmin:
		r.Because = "an administrator of server " + place.Server.Name
	case verdict.ByTraverse:
		r.Because = "a folder above refuses execute"
		r.SetOn = place.Server.Name + ":" + place.Folders[b.Folder+1]
	case verdict.Nothing:
		r.Because = "no entry grants it"
	}
	return r
}

func (k *asker) shareReason(q *verdict.Question, place estate.Place, sh *estate.Share, b verdict.Because, granted bool) report.Reason {
	r := report.Reason{Granted: granted, SetOn: "share " + sh.Address(place.Server)}
	switch b.Source {
	case verdict.ByEntry:
		r.Because = shareEntry(k.lang, sh.Descriptor.Rules.Entries[b.Entry])
		r.Chain = chainNames(k.t, q.Token.Chain(b.Who))
	case verdict.ByReadOnly:
		r.Because = "the share is switched to read-only"
	case verdict.ByAbsence:
		r.Because = "the share's rules are absent, which limits nobody"
	default:
		r.Because = "no entry of the share lets it through"
	}
	return r
}
