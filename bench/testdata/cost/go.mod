module cost

go 1.24
