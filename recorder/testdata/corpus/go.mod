module corpus

go 1.24
