module ordered

go 1.24
