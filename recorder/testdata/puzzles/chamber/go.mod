module chamber

go 1.24
