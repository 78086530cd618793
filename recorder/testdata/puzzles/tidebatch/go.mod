module tidebatch

go 1.24
