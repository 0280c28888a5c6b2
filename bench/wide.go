package main

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"time"

	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/resolve"
)

// A company of very many targets: each of 2,000 people holds another set of
// roles, each role reaches the targets of some sites.
var (
	wideTargets = sized(10_000)
	wideSets    = sized(2_000)
	wideSites   = 50
	wideRoles   = 300
)

// wide writes its declaration. alike says whether the targets of one site are;
// otherwise each is reached by a grant of its own besides.
func wide(alike bool) []declare.File {
	var b strings.Builder
	b.WriteString("roost: 1\ngroups:\n")
	for i := range wideRoles {
		fmt.Fprintf(&b, "  group-%d: {number: %d}\n", i, 5000+i)
	}
	b.WriteString("roles:\n")
	for i := range wideRoles {
		fmt.Fprintf(&b, "  role-%d:\n    gives:\n", i)
		for j := range 5 {
			fmt.Fprintf(&b, "      - at: {kind: host, tags: {site: site-%d}}\n        groups: [group-%d]\n", (i+j*11)%wideSites, i)
		}
	}
	fmt.Fprint(&b, "  everywhere:\n    gives:\n")
	if alike {
		fmt.Fprint(&b, "      - at: {kind: host}\n        account: {shell: /bin/bash}\n")
	} else {
		for i := range wideTargets {
			fmt.Fprintf(&b, "      - at: {tags: {own: own-%05d}}\n        account: {shell: /bin/bash}\n", i)
		}
	}
	b.WriteString("users:\n")
	for i := range wideSets {
		fmt.Fprintf(&b, "  hand.%05d: {name: Hand %d, number: %d, roles: [everywhere, role-%d, role-%d]}\n", i, i, 10_000+i,
			i%wideRoles, (i/wideRoles*7+i+1)%wideRoles)
	}
	b.WriteString("targets:\n")
	for i := range wideTargets {
		fmt.Fprintf(&b, "  host-%05d: {kind: host, address: \"127.0.2.1:22\", login: {as: root}, tags: {site: site-%d, own: own-%05d}}\n",
			i, i%wideSites, i)
	}
	return []declare.File{{Name: "wide.yaml", Text: b.String()}}
}

// planAlike and planUnlike: what the plan takes beyond its declaration, in MB,
// beside what it may.
func planAlike(context.Context, *workbench) (float64, float64, error)  { return planMemory(true) }
func planUnlike(context.Context, *workbench) (float64, float64, error) { return planMemory(false) }

func planMemory(alike bool) (float64, float64, error) {
	d, err := declare.Read(wide(alike), companySchemas)
	if err != nil {
		return 0, 0, err
	}
	before, began := heap(), time.Now()
	p, err := resolve.Resolve(d, companySchemas, time.Now(), nil)
	if err != nil {
		return 0, 0, err
	}
	took := time.Since(began)
	mb := float64(heap()-before) / 1e6
	sets := map[int]bool{}
	for _, x := range p.People {
		sets[x.Bundle()] = true
	}
	fmt.Printf("# %d sets of roles on %d targets of kind %s, worked out in %.1f s\n", len(sets), len(p.Targets), host.Kind, took.Seconds())
	runtime.KeepAlive(p)
	runtime.KeepAlive(d)
	return mb, 300, nil
}
