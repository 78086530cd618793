module request

go 1.24
