module stowage

go 1.24
