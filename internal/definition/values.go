package definition

import "time"

// Values are a table that whoever knows its kind reads: each key once, then Done.
type Values struct{ table *table }

// Must is a text that has to be there.
func (v Values) Must(name, example string) (string, Pos) { return v.table.textMust(name, example) }

// Text is a text that may be left out.
func (v Values) Text(name string) string {
	text, _ := v.table.text(name)
	return text
}

// Texts is a list of texts; nil if it is left out.
func (v Values) Texts(name string) []string {
	if v.table.find(name) == nil {
		v.table.ask(name)
		return nil
	}
	list := []string{}
	for _, t := range v.table.texts(name) {
		list = append(list, t.text)
	}
	return list
}

// Bytes is a size; 0 if it is left out.
func (v Values) Bytes(name string) int64 { return v.table.size(name) }

// Count is a whole number of at least 1; 0 if it is left out.
func (v Values) Count(name string) int64 { return v.table.count(name, 1) }

// Has says whether a key is there.
func (v Values) Has(name string) bool { return v.table.find(name) != nil }

// At is where a key stands, or the table if it is not there.
func (v Values) At(name string) Pos {
	if e := v.table.find(name); e != nil {
		return e.pos
	}
	return v.table.pos
}

// Bool is true or false; false if it is left out.
func (v Values) Bool(name string) bool { return v.table.flag(name) }

// Duration is a time such as 10m; 0 if it is left out.
func (v Values) Duration(name string) time.Duration { return v.table.duration(name) }

// Source is where a value comes from that is not written down: env:NAME, file:PATH or command:COMMAND; "" for none.
func (v Values) Source(name string) string {
	text, at := v.table.text(name)
	if text != "" {
		v.table.problems.source(text, at)
	}
	return text
}

// Later refuses keys that have a meaning but are not supported yet.
func (v Values) Later(names ...string) { v.table.later(names...) }

// Problem adds one.
func (v Values) Problem(at Pos, what, do string) { v.table.problems.add(at, what, do) }

// Kinds are what definitions are read with: what the tables say that stand above this package.
type Kinds struct {
	Regions RegionKinds
	Bases   BaseKinds
	Needs   Needs
	Expects ExpectKinds
}

// RegionKinds are the kinds of regions: each reads what zygos.toml says of one, beside its kind and terms.
type RegionKinds struct {
	Names []string // in the order in which they are told
	Read  func(kind, region string, v Values) (settings any)
	Can   func(kind string) []string             // of Abilities
	Where func(kind string, settings any) string // the same for regions that lie in one place
	Taken []string                               // names that no image can have, since regions have something of that name
}

// BaseKinds are the kinds of bases.
type BaseKinds struct {
	// Of is the kind of what a candidate in from names; "" and why if there is none.
	Of func(from string) (kind, why, do string)
	// Read reads what zygos.toml says of a base of a kind, beside release, from and sha256.
	Read func(kind string, v Values) (settings any, key string)
}

// Needs are the rules that tags may have.
type Needs struct {
	Names, Later []string
	// Check says what is wrong with what follows a rule's name and its colon, "" if nothing is.
	Check func(name, value string) (what, do string)
}
