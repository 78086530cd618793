module roster

go 1.26.0
