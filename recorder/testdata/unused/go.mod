module unused

go 1.24
