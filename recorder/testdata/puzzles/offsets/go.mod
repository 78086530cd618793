module offsets

go 1.24
