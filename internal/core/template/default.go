package template

import (
	"regexp"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// literalDefault is a default that is just a value, in brackets or cast to a type, as databases tell of it.
var literalDefault = regexp.MustCompile(`^\(*('(?:[^'\\]|'')*'|[-+]?[0-9]+(?:\.[0-9]+)?|(?i:true|false))\)*(?:::[\w .,"()\[\]]+)*$`)

// defaultOf is the default of a column as a cell has it; "" for none, for the empty text, and for one that the database
// computes.
func defaultOf(c *schema.Column) string {
	found := literalDefault.FindStringSubmatch(c.Default)
	if !c.Defaulted || found == nil {
		return ""
	}
	text := found[1]
	if strings.HasPrefix(text, "'") {
		text = strings.ReplaceAll(text[1:len(text)-1], "''", "'")
	}
	if c.Type.Kind != value.Bool {
		return text
	}
	return map[string]string{"true": "yes", "t": "yes", "1": "yes", "false": "no", "f": "no", "0": "no"}[strings.ToLower(text)]
}

// computes reports whether the database computes the default of a column, as the time of now.
func computes(c *schema.Column) bool {
	return c.Defaulted && !literalDefault.MatchString(c.Default) && !strings.HasPrefix(strings.ToLower(c.Default), "null")
}
