module racing

go 1.24
