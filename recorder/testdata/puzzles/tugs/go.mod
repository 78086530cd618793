module tugs

go 1.24
