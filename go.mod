module hodstone

go 1.26.8

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/charmbracelet/x/term v0.2.2
	github.com/expr-lang/expr v1.17.8
	github.com/goccy/go-yaml v1.19.2
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/spf13/cobra v1.10.2
	golang.org/x/text v0.14.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
	golang.org/x/sys v0.47.0 // indirect
)
