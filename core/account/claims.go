package account

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// A claim is an attribute of somebody that a server is told beside who they are and which
// groups they are in ([MS-DTYP] §2.4.10), and that conditions of entries ask for.

// ClaimKind is what a claim's values are.
type ClaimKind string

const (
	TextClaim  ClaimKind = "text"
	IntClaim   ClaimKind = "number"
	BoolClaim  ClaimKind = "yes-no" // 0 or 1
	SIDClaim   ClaimKind = "identifier"
	OctetClaim ClaimKind = "bytes"
)

// ClaimKinds lists what values of claims can be.
func ClaimKinds() []ClaimKind {
	return []ClaimKind{TextClaim, IntClaim, BoolClaim, SIDClaim, OctetClaim}
}

// Value is one value of a claim. Values compare with ==.
type Value struct {
	Kind ClaimKind
	Int  int64
	Text string // text, or bytes
	ID   ID
}

// Claim is all values that somebody has of one.
type Claim struct {
	Values []Value
	// CaseSensitive: text is compared byte for byte.
	CaseSensitive bool
}

// Claims are all of somebody's, written down: what is the same is the same text, so that
// accounts compare with ==.
type Claims string

// claims are those that were read, by how they are written down.
var claims sync.Map

type writtenClaim struct {
	Name   string   `json:"claim"`
	Values []string `json:"values"` // each kind:value
}

// NewClaims writes claims down.
func NewClaims(of map[string]Claim) Claims {
	if len(of) == 0 {
		return ""
	}
	var out []writtenClaim
	for name, c := range of {
		w := writtenClaim{Name: strings.ToLower(name)}
		for _, v := range c.Values {
			w.Values = append(w.Values, v.String())
		}
		out = append(out, w)
	}
	slices.SortFunc(out, func(a, b writtenClaim) int { return strings.Compare(a.Name, b.Name) })
	js, err := json.Marshal(out)
	if err != nil { // text alone: there is none
		return ""
	}
	return Claims(js)
}

// String writes a value with its kind before it.
func (v Value) String() string {
	switch v.Kind {
	case IntClaim:
		return fmt.Sprintf("number:%d", v.Int)
	case BoolClaim:
		return map[bool]string{true: "yes-no:yes", false: "yes-no:no"}[v.Int != 0]
	case SIDClaim:
		return "identifier:" + v.ID.String()
	case OctetClaim:
		return fmt.Sprintf("bytes:%x", v.Text)
	}
	return "text:" + v.Text
}

// ParseValue reads what a value of a kind is written as.
func ParseValue(kind ClaimKind, text string) (v Value, err error) {
	v.Kind = kind
	switch kind {
	case TextClaim:
		v.Text = text
	case IntClaim:
		if v.Int, err = strconv.ParseInt(text, 10, 64); err != nil {
			err = fmt.Errorf("%q is not a number of 64 bits", text)
		}
	case BoolClaim:
		switch text {
		case "yes":
			v.Int = 1
		case "no":
		default:
			err = fmt.Errorf("%q is neither yes nor no", text)
		}
	case SIDClaim:
		v.ID, err = ParseID(text)
	case OctetClaim:
		var b []byte
		if b, err = hex.DecodeString(text); err != nil {
			err = fmt.Errorf("%q isn't written in hexadecimal digits", text)
		}
		v.Text = string(b)
	default:
		err = fmt.Errorf("%q is not a kind of claim: text, number, yes-no, identifier or bytes", string(kind))
	}
	return v, err
}

// Get gives one claim, by its name in any case; ok is false where there is none.
func (c Claims) Get(name string) (Claim, bool) {
	one, ok := c.All()[strings.ToLower(name)]
	return one, ok
}

// All gives the claims by name, in lower case.
func (c Claims) All() map[string]Claim {
	if c == "" {
		return nil
	}
	if known, ok := claims.Load(c); ok {
		return known.(map[string]Claim)
	}
	out := map[string]Claim{}
	var in []writtenClaim
	if json.Unmarshal([]byte(c), &in) == nil {
		for _, w := range in {
			var one Claim
			for _, text := range w.Values {
				kind, value, _ := strings.Cut(text, ":")
				if v, err := ParseValue(ClaimKind(kind), value); err == nil {
					one.Values = append(one.Values, v)
				}
			}
			out[strings.ToLower(w.Name)] = one
		}
	}
	claims.Store(c, out)
	return out
}
