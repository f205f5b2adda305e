// Notices writes what the programs are built with, and under which licences: the Go modules that are linked in, and the npm packages that
// the console's script is made of.
package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// Part is something of others that is in the programs.
type Part struct {
	Name, Version, License string
	// Texts are the contents of its licence and notice files.
	Texts []string
}

func main() {
	parts, err := Modules()
	if err == nil {
		var scripts []Part
		scripts, err = Scripts("web")
		parts = append(parts, scripts...)
	}
	if err == nil {
		err = Write(os.Stdout, parts)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "notices:", err)
		os.Exit(1)
	}
}

// Modules lists the Go modules that the programs are linked with, and Go itself. Errors: those of the go command, and of reading.
func Modules() ([]Part, error) {
	out, err := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}",
		"inkpost.example/inkpost/cmd/...").Output()
	if err != nil {
		return nil, err
	}
	root, err := exec.Command("go", "env", "GOVERSION", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	lines := append(strings.Split(strings.TrimSpace(string(out)), "\n"), "go "+strings.Join(strings.Fields(string(root)), " "))
	slices.Sort(lines)
	var parts []Part
	for _, line := range slices.Compact(lines) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		of := strings.Fields(line)
		p := Part{Name: of[0], Version: of[1]}
		if p.Texts, err = texts(of[2]); err != nil {
			return nil, err
		}
		p.License = named(strings.Join(p.Texts, "\n"))
		parts = append(parts, p)
	}
	return parts, nil
}

// Scripts lists the npm packages of the console in a folder that are not for building alone. Errors: those of reading.
func Scripts(web string) ([]Part, error) {
	lock, err := os.ReadFile(filepath.Join(web, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var of struct {
		Packages map[string]struct {
			Version, License string
			Dev, Optional    bool
		}
	}
	if err := json.Unmarshal(lock, &of); err != nil {
		return nil, err
	}
	var parts []Part
	for at, pkg := range of.Packages {
		if at == "" || pkg.Dev || pkg.Optional {
			continue
		}
		_, name, _ := strings.Cut(at, "node_modules/")
		p := Part{Name: name, Version: pkg.Version, License: pkg.License}
		if p.Texts, err = texts(filepath.Join(web, at)); err != nil {
			return nil, err
		}
		parts = append(parts, p)
	}
	slices.SortFunc(parts, func(a, b Part) int { return strings.Compare(a.Name, b.Name) })
	return parts, nil
}

// texts returns the licence and notice files of a folder.
func texts(dir string) (out []string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name := strings.ToUpper(e.Name())
		if e.IsDir() || !slices.ContainsFunc([]string{"LICENSE", "LICENCE", "COPYING", "NOTICE", "COPYRIGHT"},
			func(w string) bool { return strings.HasPrefix(name, w) }) {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		out = append(out, strings.ReplaceAll(string(text), "\r\n", "\n"))
	}
	return out, nil
}

// named is the SPDX name of a licence, by words that only it has.
func named(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	for _, one := range []struct{ words, name string }{
		{"Apache License Version 2.0", "Apache-2.0"},
		{"Mozilla Public License Version 2.0", "MPL-2.0"},
		{"Mozilla Public License, version 2.0", "MPL-2.0"},
		{"Permission is hereby granted, free of charge", "MIT"},
		{"Permission to use, copy, modify, and/or distribute", "ISC"},
		{"Neither the name of", "BSD-3-Clause"},
		{"names of its contributors", "BSD-3-Clause"},
		{"Redistribution and use in source and binary forms", "BSD-2-Clause"},
		{"CC0 1.0 Universal", "CC0-1.0"},
		{"This is free and unencumbered software", "Unlicense"},
	} {
		if strings.Contains(text, one.words) {
			return one.name
		}
	}
	return "see its text"
}

// Write writes parts as Markdown: a table, and each text once. Errors: a part without a text or a licence, and those of writing.
func Write(w io.Writer, parts []Part) error {
	var b strings.Builder
	b.WriteString("# What Ink Post is built with\n\nThe programs are linked with the Go modules below, and the console's script is made of the " +
		"npm packages. Their licences follow,\neach text once. Written by `make notices`.\n\n| part | version | licence |\n|---|---|---|\n")
	var all []string
	users := map[string][]string{}
	for _, p := range parts {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", p.Name, p.Version, p.License)
		if len(p.Texts) == 0 && p.License == "" {
			return fmt.Errorf("%s %s has no licence", p.Name, p.Version)
		}
		for _, text := range p.Texts {
			if users[text] == nil {
				all = append(all, text)
			}
			users[text] = append(users[text], p.Name)
		}
	}
	for _, text := range all {
		fmt.Fprintf(&b, "\n## %s\n\n```\n%s\n```\n", strings.Join(users[text], ", "), strings.Trim(strings.ReplaceAll(text, "```", "'''"),
			"\n"))
	}
	_, err := io.WriteString(w, b.String())
	return err
}
