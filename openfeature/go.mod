module greenlever.example/openfeature

go 1.26.0

require greenlever.example/client v0.0.0

require (
	github.com/open-feature/go-sdk v1.20.0
	go.uber.org/mock v0.6.0 // indirect
	greenlever.example/core v0.0.0 // indirect
)

replace (
	greenlever.example/client => ../client
	greenlever.example/core => ../core
)
