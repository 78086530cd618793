module reused

go 1.24
