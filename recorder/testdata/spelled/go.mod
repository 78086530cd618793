module spelled

go 1.24
