module loops

go 1.24
