module quays

go 1.24
