package report

import (
	"fmt"
	"strings"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/report/doc"
)

// Count writes a number with its noun: 1 item, 2,000 items.
func Count(n int64, noun string) string { return format.Count(n, noun) }

// Some names the first few of many.
func Some(names []string, few int) string {
	if len(names) <= few+1 {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:few], ", ") + fmt.Sprintf(" and %d more", len(names)-few)
}

func YesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// known says what an identifier is, where that is worth saying.
func known(k string) string {
	switch {
	case k == "unknown":
		return "unknown to the estate"
	case k == "domain-users":
		return "every user of the domain"
	case strings.HasPrefix(k, "uid-of:"):
		return "the uid of user " + strings.TrimPrefix(k, "uid-of:")
	case strings.HasPrefix(k, "gid-of:"):
		return "the gid of group " + strings.TrimPrefix(k, "gid-of:")
	}
	return k
}

// Because says why in a sentence, and where that is set.
func Because(r *ask.Reason, server string, share bool) (why, set string) {
	set = r.SetOn
	switch r.By {
	case "entry":
		why = r.Entry
		if r.Class != nil {
			why = classSays(r)
		}
		if r.Kept {
			why += ", in the descriptor the server keeps beside the list"
		}
	case "kernel":
		why = "the server's descriptor grants it, and the kernel is asked too: " + classSays(r)
	case "above":
		why = "delete-child on the folder above: " + r.Entry
		if r.Class != nil {
			why = "write and execute on the folder above: " + classSays(r)
		}
		switch {
		case r.Entry == "" && r.SetOn == "":
			why = "what the folder above gives"
		case r.Entry == "":
			why = "delete-child on the folder above, whose rules are absent"
		}
	case "owner":
		why = "owns it, which brings read-acl and write-acl"
		if share {
			why = "owns the share's rules, which brings read-acl and write-acl"
		}
	case "posix-owner":
		why = "owns it, which brings changing its mode, lists and times"
	case "reach":
		why = "whoever gets to it sees what it is"
	case "owners-alone":
		why = "only the owner and root change mode, lists and times"
	case "root-alone":
		why = "only root gives an item away"
	case "never-runs":
		why = "no class of the mode has execute, so that nobody runs it"
	case "folder":
		why = "the folder above gives no write and execute together"
		if r.Class != nil {
			why = "renaming and deleting need write and execute on the folder above: " + classSays(r)
		}
	case "share-stops":
		why = "the share doesn't let taking things out of its folders through"
	case "sticky":
		why = "the folder above is sticky, and neither it nor this is theirs"
	case "absent":
		why = "its rules are absent, which opens it to everyone"
		if share {
			why = "the share's rules are absent, which limits nobody"
		}
	case "naming":
		why = "the server shows attributes to whoever can name an item"
	case "administrator":
		why = "an administrator of server " + server
	case "no-account":
		why = fmt.Sprintf("the account is %s's own, and nobody on %s", r.Entry, server)
	case "running":
		why = "the share's configuration asks nobody for execute"
	case "label":
		why = "its mandatory label is above theirs"
	case "mark":
		why = markWhy(r.Entry)
	case "privilege":
		why = r.Entry + " on server " + server + ", which no rules refuse"
	case "taking":
		why = "the share's rules don't give everything, and so nothing to members of BUILTIN\\Administrators"
	case "traverse":
		why = "a folder above refuses execute"
	case "read-only":
		why = "the share is switched to read-only"
	case "no-writing":
		why = "the connection is read-only, for the share's rules give no write-data"
	case "connection":
		why = "the share refuses the connection"
	case "configuration":
		why = configured(r)
		if len(r.Chain) > 1 {
			why += " (" + strings.Join(r.Chain, " → ") + ")"
		}
		return why, set
	default:
		why = "no entry grants it"
		if share {
			why = "no entry of the share lets it through"
		}
		why += nearest(r)
	}
	if r.Stale {
		set = "from above, nowhere now"
	}
	return why, set
}

// classSays says which part of a POSIX list decided.
func classSays(r *ask.Reason) string {
	c := r.Class
	has := c.Perms
	if c.Counts != "" {
		has += ", cut to " + c.Counts + " by the mask"
	}
	s := ""
	if c.Skipped {
		s = "the mask is empty, so that the list isn't looked at; "
	}
	switch c.Tag {
	case "owner":
		return s + "as the owner they have " + has
	case "user":
		return s + "not the owner; the entry for user " + c.Who + " decides: " + has
	case "owning-group", "group":
		s += c.Who + ", their group, has " + has
		if len(c.Also) > 0 {
			s += "; " + doc.Join(c.Also, "and") + " too, and none of them more"
		}
		return s
	}
	return s + "neither the owner nor named nor in a group of the list; others have " + has
}

// nearest says which entry grants to others what nothing grants here.
func nearest(r *ask.Reason) string {
	if r.Nearest == "" {
		return ""
	}
	return "; nearest is " + r.Nearest + ", and that is for others"
}

// doorSays says what the connection does, before any file is asked for.
func doorSays(e *explain.Explained) string {
	if e.Door.Open && !e.Door.ReadOnly {
		return ""
	}
	if r := e.Door.By; r != nil && r.By == "configuration" {
		says := "gives %s a read-only connection"
		if !e.Door.Open {
			says = "refuses %s the connection"
		}
		why, _ := Because(r, "", true)
		return e.Route + " " + fmt.Sprintf(says, e.User.Name) + ": " + why
	}
	if r := e.Door.By; r != nil && r.By == "no-account" {
		why, _ := Because(r, e.Server, true)
		return why
	}
	if !e.Door.Open {
		why := map[string]string{
			"no-data":      "the share's rules give %s neither read-data nor write-data",
			"no-reading":   "it is switched to read-only, and its rules give %s no read-data",
			"rules-absent": "its rules are absent, which this server takes as closed to everyone",
		}[e.Door.Why]
		if strings.Contains(why, "%s") {
			why = fmt.Sprintf(why, e.User.Name)
		}
		return fmt.Sprintf("%s refuses %s the connection: %s%s", e.Route, e.User.Name, why, doorBy(e.Door.By))
	}
	if e.Door.Why == "switched" {
		return fmt.Sprintf("%s is switched to read-only", e.Route)
	}
	return fmt.Sprintf("%s gives %s a read-only connection: the share's rules give no write-data%s", e.Route, e.User.Name, doorBy(e.Door.By))
}

// configured says what a server's configuration has to do with an answer.
func configured(r *ask.Reason) string {
	if r.Entry == ask.NoMachine {
		return r.SetOn + " lets no machine connect"
	}
	if r.Entry == "" {
		return r.SetOn + " lists who may connect, and not this account, by name or by group"
	}
	return fmt.Sprintf("%s lists %s", r.SetOn, r.Entry)
}

// Admitted puts into words what a configuration says of a share.
func Admitted(text string) string {
	key, name, _ := strings.Cut(text, " ")
	switch key {
	case "squash-root":
		return "root is opened as " + name
	case "squash-all":
		return "everybody is opened as " + name
	case "squash-none":
		return "root is root there too"
	case "home":
		return "the home of " + name
	case "from-no-machine":
		return "no machine may connect"
	case "runs":
		return "nobody is asked for execute"
	case "not-counted":
		return "has " + name + ", which no answer counts"
	case "machine":
		return name + " may mount it (from which machine somebody comes isn't counted)"
	}
	says := map[string]string{"only": "may connect, with the others listed", "never": "never connects", "reads": "reads only", "writes": "writes, whatever the switch",
		"passes": "passes the files' rules", "as": "is who files are opened as, whoever connects", "with-group": "counts for whoever connects",
		"with-group-of-members": "counts for its members, as their first group", "hides": "what can't be read isn't shown"}[key]
	return strings.TrimSpace(name + " " + says)
}

// doorBy names the entry that closes a connection.
func doorBy(r *ask.Reason) string {
	if r == nil {
		return ""
	}
	s := ", by " + r.Entry
	if len(r.Chain) > 1 {
		s += " (" + strings.Join(r.Chain, " → ") + ")"
	}
	return s
}

// At writes a moment of the journal by the clock of this machine.
func At(rfc3339 string) string { return estate.Moment(rfc3339) }
