module greenlever.example/places

go 1.26.0

require (
	github.com/pmezard/go-difflib v1.0.0
	golang.org/x/tools v0.52.0
)

require (
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
)
