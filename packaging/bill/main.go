// Bill writes what is in a built program as SPDX 2.3 JSON (ISO/IEC 5962), from the build
// information that Go puts into it.
package main

import (
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

type element struct {
	ID       string     `json:"SPDXID"`
	Name     string     `json:"name"`
	Version  string     `json:"versionInfo,omitempty"`
	From     string     `json:"downloadLocation"`
	Analyzed bool       `json:"filesAnalyzed"`
	Licence  string     `json:"licenseConcluded"`
	Declared string     `json:"licenseDeclared"`
	Rights   string     `json:"copyrightText"`
	Sums     []checksum `json:"checksums,omitempty"`
	Refs     []external `json:"externalRefs,omitempty"`
}

type checksum struct {
	Algorithm string `json:"algorithm"`
	Value     string `json:"checksumValue"`
}

type external struct {
	Category string `json:"referenceCategory"`
	Type     string `json:"referenceType"`
	Locator  string `json:"referenceLocator"`
}

type relation struct {
	From string `json:"spdxElementId"`
	Type string `json:"relationshipType"`
	To   string `json:"relatedSpdxElement"`
}

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "usage: bill PROGRAM VERSION TIME, the time as in RFC 3339")
		os.Exit(2)
	}
	text, err := bill(os.Args[1], os.Args[2], os.Args[3])
	if err != nil {
		fmt.Fprintln(os.Stderr, "bill:", err)
		os.Exit(1)
	}
	os.Stdout.Write(append(text, '\n'))
}

func bill(program, version, at string) ([]byte, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(program)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(raw)
	name := filepath.Base(program)
	const none = "NOASSERTION"
	root := element{ID: "SPDXRef-Package-tarnwold", Name: "tarnwold", Version: version, From: none, Licence: none, Declared: none, Rights: none,
		Sums: []checksum{{"SHA256", hex.EncodeToString(sum[:])}}}
	all := []element{root, {ID: "SPDXRef-Package-go", Name: "go", Version: info.GoVersion, From: "https://go.dev/dl/", Licence: none, Declared: none, Rights: none}}
	relations := []relation{{"SPDXRef-DOCUMENT", "DESCRIBES", root.ID}, {root.ID, "STATIC_LINK", all[1].ID}}
	for i, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		e := element{ID: fmt.Sprintf("SPDXRef-Package-%d", i+1), Name: m.Path, Version: m.Version, From: none, Licence: none, Declared: none, Rights: none,
			Refs: []external{{"PACKAGE-MANAGER", "purl", "pkg:golang/" + strings.ToLower(m.Path) + "@" + m.Version}}}
		all = append(all, e)
		relations = append(relations, relation{root.ID, "STATIC_LINK", e.ID})
	}
	return json.MarshalIndent(map[string]any{
		"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": name + "-" + version,
		"documentNamespace": "https://tarnwold.example/spdx/" + name + "-" + version + "-" + hex.EncodeToString(sum[:8]),
		"creationInfo":      map[string]any{"created": at, "creators": []string{"Tool: tarnwold-packaging"}},
		"packages":          all, "relationships": relations,
	}, "", "  ")
}
