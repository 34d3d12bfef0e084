package definition

// Values are a table that whoever knows its kind reads: each key once, then Done.
type Values struct{ table *table }

// Must is a text that has to be there.
func (v Values) Must(name, example string) (string, Pos) { return v.table.textMust(name, example) }

// Later refuses keys that have a meaning but are not supported yet.
func (v Values) Later(names ...string) { v.table.later(names...) }

// Problem adds one.
func (v Values) Problem(at Pos, what, do string) { v.table.problems.add(at, what, do) }

// RegionKinds are the kinds of regions: each reads what zygos.toml says of one, beside its kind and formats.
type RegionKinds struct {
	Names, Later []string // in the order in which they are told; and those that will come
	Read         func(kind, region string, v Values) (settings any)
}
