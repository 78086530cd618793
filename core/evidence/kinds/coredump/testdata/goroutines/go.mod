module roster

go 1.22
