module greenlever.example/examples/minimal

go 1.25

require greenlever.example/client v0.0.0

require greenlever.example/core v0.0.0 // indirect

replace (
	greenlever.example/client => ../../client
	greenlever.example/core => ../../core
)
