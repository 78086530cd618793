module names

go 1.26.0
