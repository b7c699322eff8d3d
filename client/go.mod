module greenlever.example/client

go 1.25

require greenlever.example/core v0.0.0

replace greenlever.example/core => ../core
