package manifest

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Check compares a document with a schema of ours, by name: what is wrong, each with its place (a JSON Pointer, RFC 6901), is one
// error. It knows what our schemas use of JSON Schema, draft 2020-12, and no more.
func Check(schema string, document []byte) error {
	var rules map[string]any
	if err := json.Unmarshal(Schemas[schema], &rules); err != nil {
		return err
	}
	var value any
	if err := json.Unmarshal(document, &value); err != nil {
		return fmt.Errorf("it is no JSON: %w", err)
	}
	c := checker{defs: rules["$defs"]}
	c.check(rules, value, "")
	if len(c.wrong) > 0 {
		return errors.New(strings.Join(c.wrong, "; "))
	}
	return nil
}

type checker struct {
	defs  any
	wrong []string
}

func (c *checker) say(at, form string, args ...any) {
	if at == "" {
		at = "/"
	}
	c.wrong = append(c.wrong, at+" "+fmt.Sprintf(form, args...))
}

// check compares a value with the rules for it.
func (c *checker) check(rules map[string]any, value any, at string) {
	for _, rule := range slices.Sorted(maps.Keys(rules)) {
		want := rules[rule]
		switch rule {
		case "$schema", "$id", "$defs", "title", "description":
		case "$ref":
			defs, _ := c.defs.(map[string]any)
			def, _ := defs[strings.TrimPrefix(want.(string), "#/$defs/")].(map[string]any)
			c.check(def, value, at)
		case "const":
			if !reflect.DeepEqual(value, want) {
				c.say(at, "is not %v", want)
			}
		case "type":
			if !is(value, want.(string)) {
				c.say(at, "is no %s", want)
			}
		default:
			c.more(rules, rule, value, at)
		}
	}
}

// is says whether a value is of a type.
func is(value any, kind string) bool {
	switch v := value.(type) {
	case string:
		return kind == "string"
	case float64:
		return kind == "number" || kind == "integer" && v == float64(int64(v))
	case map[string]any:
		return kind == "object"
	case []any:
		return kind == "array"
	}
	return false
}

// more compares a value with a rule for values of one type; others are nothing to it.
func (c *checker) more(rules map[string]any, rule string, value any, at string) {
	want := rules[rule]
	switch v := value.(type) {
	case string:
		c.text(rule, want, v, at)
	case float64:
		if least, ok := want.(float64); ok && rule == "minimum" && v < least {
			c.say(at, "is less than %v", least)
		}
	case []any:
		if least, ok := want.(float64); ok && rule == "minItems" && len(v) < int(least) {
			c.say(at, "has fewer than %v items", least)
		}
		if inner, ok := want.(map[string]any); ok && rule == "items" {
			for i, item := range v {
				c.check(inner, item, fmt.Sprintf("%s/%d", at, i))
			}
		}
	case map[string]any:
		c.object(rules, rule, v, at)
	}
}

func (c *checker) text(rule string, want any, v, at string) {
	switch rule {
	case "minLength":
		if least := int(want.(float64)); utf8.RuneCountInString(v) < least {
			c.say(at, "is shorter than %d", least)
		}
	case "pattern":
		if ok, err := regexp.MatchString(want.(string), v); err != nil || !ok {
			c.say(at, "%q has not the form %s", v, want)
		}
	case "format":
		if _, err := time.Parse(time.RFC3339, v); want == "date-time" && err != nil {
			c.say(at, "%q is no time", v)
		}
	}
}

func (c *checker) object(rules map[string]any, rule string, v map[string]any, at string) {
	known, _ := rules["properties"].(map[string]any)
	want := rules[rule]
	names := slices.Sorted(maps.Keys(v))
	inner, _ := want.(map[string]any)
	switch rule {
	case "required":
		for _, name := range want.([]any) {
			if _, has := v[name.(string)]; !has {
				c.say(at, "lacks %v", name)
			}
		}
	case "properties":
		for _, name := range names {
			if rules, ok := inner[name].(map[string]any); ok {
				c.check(rules, v[name], at+"/"+name)
			}
		}
	case "additionalProperties":
		for _, name := range names {
			if known[name] == nil && inner != nil {
				c.check(inner, v[name], at+"/"+name)
			}
		}
	case "propertyNames":
		for _, name := range names {
			c.check(inner, name, at+"/"+name)
		}
	}
}
