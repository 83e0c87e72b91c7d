module hodstone

go 1.26.8

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/expr-lang/expr v1.17.8
	github.com/goccy/go-yaml v1.19.2
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	golang.org/x/text v0.14.0
)
