module greenlever.example/core

go 1.25
