module shapes

go 1.24
